//! When an edition is made, and what must hold before.
//!
//! Whether one is due follows from its spec and the calendar alone; which were made for which moment stands in their records. So nothing
//! is forgotten while nobody runs, and nothing is made twice.

use super::{coverage::share_of, cutting::Cutting, job::Why};
use crate::{Research, findings::Judged};
use mizuno_config::{
    Edition, Schedule,
    edition::{Due, Otherwise, When},
};
use mizuno_core::{
    Calendar, Completeness, Session, Timestamp, TradeDate,
    calendar::on_the_wall,
    review::{Every, period},
};
use mizuno_desk::{
    DeskError, Setup,
    order::Order,
    timetable::{last_due, next_due},
};
use mizuno_store::{editions::State, runs};
use std::{
    collections::BTreeSet,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};

/// An edition that is due and not made, and what does not hold.
#[derive(Clone, Debug, PartialEq)]
pub struct HeldUp {
    /// The moment for which it was due.
    pub due: Timestamp,
    /// What does not hold, in sentences.
    pub why: Vec<String>,
    /// Until when it is waited; `None` where it is not made before that holds.
    pub until: Option<Timestamp>,
}

/// Sessions looked through for the one that is due: two months of them, and more.
const AROUND: usize = 70;

/// Where nothing was committed, what is to be published is looked for so often: what could not be sent may be sent now.
const LOOKED_EVERY: Duration = Duration::from_secs(10);

impl Research {
    /// The moments at which an edition is due among the sessions round an instant.
    fn dues(setup: &Setup, spec: &Edition, due: &Due, around: Timestamp) -> Vec<Timestamp> {
        let (Some(calendar), Some(venue)) = (setup.calendars.get(&spec.venue), setup.config.venues.get(&spec.venue)) else { return vec![] };
        let sessions = calendar.sessions();
        let at = calendar.begun_by(around);
        let range = at.saturating_sub(AROUND)..(at + AROUND).min(sessions.len());
        let moment = |session: &Session| match due.when {
            When::At(time) => on_the_wall(&venue.zone, session.date, time),
            When::AfterClose(delay) => session.close().plus(delay),
        };
        let of = |at: usize| sessions.get(at).map(|s| period(due.every, s.date));
        let is = |at: &usize| match due.first {
            true => *at > 0 && of(*at) != of(at - 1),
            // Whether the newest session of the calendar is the last of its period nobody knows.
            false => due.every == Every::Day || of(at + 1).is_some_and(|next| Some(next) != of(*at)),
        };
        range.filter(is).map(|at| moment(&sessions[at])).collect()
    }

    /// When an edition is due next.
    #[must_use]
    pub fn edition_due(&self, setup: &Setup, spec: &Edition, after: Timestamp) -> Option<Timestamp> {
        let due = spec.made.as_ref()?;
        Self::dues(setup, spec, due, after).into_iter().find(|at| *at > after)
    }

    /// When it was due last.
    fn was_due(setup: &Setup, spec: &Edition, now: Timestamp) -> Option<Timestamp> {
        let due = spec.made.as_ref()?;
        Self::dues(setup, spec, due, now).into_iter().rfind(|at| *at <= now)
    }

    /// What people call an edition of an instant: the month, week or trade date of the newest session that had closed by then.
    pub(super) fn label(setup: &Setup, spec: &Edition, at: Timestamp) -> String {
        let closed = setup.calendars.get(&spec.venue).and_then(|c: &Calendar| c.last_closed(at)).map(|s| s.date);
        let date = closed.unwrap_or_else(|| at.date_in(&jiff::tz::TimeZone::UTC));
        named(spec.made.as_ref().map_or(Every::Day, |due| due.every), date)
    }

    /// What holds an edition up, of those that are due.
    #[must_use]
    pub fn held_up(&self, spec: &str) -> Option<HeldUp> {
        self.at_work.held_up.lock().unwrap_or_else(PoisonError::into_inner).get(spec).cloned()
    }

    /// What of a spec does not hold for these answers.
    pub(super) async fn does_not_hold(&self, spec: &Edition, cuttings: &[Cutting]) -> Result<Vec<String>, DeskError> {
        let all: Vec<&Cutting> = cuttings.iter().collect();
        let mut out = self.does_not_hold_of(spec, &all).await?;
        let Some(first) = cuttings.first().filter(|_| spec.holds.collectors_done) else { return Ok(out) };
        let mut names = BTreeSet::new();
        for row in cuttings.iter().flat_map(|c| &c.whole.members).flat_map(|m| m.subject.rows()) {
            names.extend(first.whole.resolved.setup.post_of(&row.key).map(|post| post.collector.name.clone()));
        }
        let now = self.desk.clock.now();
        for name in names {
            out.extend(self.is_not_done(&first.whole.resolved.setup, &name, now).await?);
        }
        Ok(out)
    }

    /// What of it follows from the answers alone, whenever they are looked at.
    pub(super) async fn does_not_hold_of(&self, spec: &Edition, cuttings: &[&Cutting]) -> Result<Vec<String>, DeskError> {
        let (holds, mut out) = (&spec.holds, vec![]);
        let Some(first) = cuttings.first() else { return Ok(out) };
        let (setup, instant) = (&first.whole.resolved.setup, first.whole.resolved.instant);
        if let Some(percent) = holds.completeness {
            let whole: Completeness = cuttings.iter().filter_map(|c| c.whole.completeness()).sum();
            let share = share_of(&whole);
            if share < percent {
                out.push(format!("{share:.2} percent of the bars are there, and {percent} are wanted; {} are missing", whole.missing));
            }
        }
        if let Some(severity) = holds.no_findings {
            let known = self.known(setup, instant).await?;
            let mut seen = BTreeSet::new();
            let (mut found, mut series) = (0, BTreeSet::new());
            for cutting in cuttings {
                for member in &cutting.whole.members {
                    for row in member.subject.rows() {
                        if !seen.insert((row.id, member.extent.start, member.extent.end)) {
                            continue;
                        }
                        let open = |j: &Judged| {
                            !j.accepted
                                && j.finding.check.severity() >= severity
                                && j.finding.span.start < member.extent.end
                                && member.extent.start < j.finding.span.end
                        };
                        let n = self.findings(setup, &row, &known).await?.iter().filter(|j| open(j)).count();
                        found += n;
                        if n > 0 {
                            series.insert(row.key.to_string());
                        }
                    }
                }
            }
            if found > 0 {
                let named: Vec<String> = series.iter().take(3).cloned().collect();
                let more = if series.len() > 3 { " and others" } else { "" };
                let (findings, are) = if found == 1 { ("finding", "is") } else { ("findings", "are") };
                out.push(format!("{found} {findings} of {} or worse {are} open, in {}{more}", severity.word(), named.join(", ")));
            }
        }
        Ok(out)
    }

    /// Why a collector has not done what it was due for last.
    async fn is_not_done(&self, setup: &Setup, name: &str, now: Timestamp) -> Result<Option<String>, DeskError> {
        let Ok(post) = setup.post(name) else { return Ok(None) };
        let newest = self.desk.store.runs(Some(name), 20).await?;
        if newest.iter().any(|run| run.state == runs::State::Running) {
            return Ok(Some(format!("the collector {name} is at work")));
        }
        // Of the session that has closed: a collector that runs an hour after the close has not done so half an hour after it.
        let of_session = match post.collector.schedule {
            Some(Schedule::AfterClose(_) | Schedule::WhileOpen(_)) => {
                post.calendar.last_closed(now).and_then(|s| next_due(&post, s.close()))
            }
            _ => None,
        };
        let Some(due) = last_due(&post, now).max(of_session) else { return Ok(None) };
        if due > now {
            return Ok(Some(format!("the collector {name} runs at {} for the session that has closed", due.to_the_minute())));
        }
        let ended = |run: &runs::RunRow| matches!(run.state, runs::State::Complete | runs::State::Incomplete);
        // One that asked for some instruments, or for gaps, has not done what was due.
        let done = |run: &runs::RunRow| run.started_at >= due && ended(run) && Order::of(run).is_whole();
        Ok((!newest.iter().any(done)).then(|| format!("the collector {name} has not run since it was due at {}", due.to_the_minute())))
    }

    /// Makes every edition when it is due, for as long as the service runs. Those that a killed process left are finished first.
    pub fn keep_making(self: &Arc<Self>) {
        let research = Arc::downgrade(self);
        // Not on the thread of collecting: a look at what is due may answer questions.
        self.desk.hands.long(move || async move {
            if let Some(research) = research.upgrade()
                && let Err(error) = research.tidy_up().await
            {
                tracing::warn!(%error, "what was left of editions cannot be taken away");
            }
            while let Some(research) = research.upgrade().filter(|research| !research.is_stopping()) {
                if let Err(error) = research.make_what_is_due().await {
                    tracing::warn!(%error, "what editions are due cannot be told");
                    // A store that cannot be read now may be read later.
                    tokio::time::sleep(Duration::from_secs(10)).await;
                }
                drop(research);
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        });
        // Beside the making: a storage far away may take long.
        let research = Arc::downgrade(self);
        self.desk.hands.long(move || async move {
            let mut looked: Option<((Timestamp, u64), Instant)> = None;
            while let Some(research) = research.upgrade().filter(|research| !research.is_stopping()) {
                // Another configuration may have another key, or keep fewer.
                let known = (research.desk.store.newest(), research.desk.setup().serial);
                let news = looked.is_none_or(|(before, at)| before != known || at.elapsed() > LOOKED_EVERY);
                if news {
                    research.bring_storages_up_to_date();
                    looked = Some((known, Instant::now()));
                }
                drop(research);
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        });
    }

    async fn make_what_is_due(self: &Arc<Self>) -> Result<(), DeskError> {
        let (setup, now) = (self.desk.setup(), self.desk.clock.now());
        self.take_up_editions().await?;
        for spec in setup.config.editions.values() {
            let Some(due) = Self::was_due(&setup, spec, now) else { continue };
            if self.at_work.settled.lock().unwrap_or_else(PoisonError::into_inner).get(&spec.name) == Some(&due) {
                continue;
            }
            let rows = self.desk.store.editions(Some(&spec.name)).await?;
            // One that a person has stopped is not begun again.
            let settled = rows.iter().any(|row| row.due == Some(due));
            let busy = rows.iter().any(|row| row.state == State::Making);
            let held_up = self.held_up(&spec.name).filter(|held| held.due == due);
            if settled || busy {
                self.no_longer_held_up(&spec.name);
                if settled {
                    self.at_work.settled.lock().unwrap_or_else(PoisonError::into_inner).insert(spec.name.clone(), due);
                }
                continue;
            }
            // What did not hold is looked at again when something was learned, and not each second.
            if held_up.is_some_and(|held| held.until.is_none_or(|until| now < until)) && !self.has_news(&spec.name) {
                continue;
            }
            let begun = Instant::now();
            if let Err(error) = self.try_for(&setup, spec, due, now).await {
                let held = HeldUp { due, why: vec![error.to_string()], until: None };
                self.holds_up(&spec.name, held);
            }
            // A look at thousands of instruments takes a while; most of the time is left to others.
            let rest = (begun.elapsed() * 10).max(Duration::from_secs(1));
            let mut looked = self.at_work.looked.lock().unwrap_or_else(PoisonError::into_inner);
            looked.insert(spec.name.clone(), (self.desk.store.newest(), Instant::now() + rest));
        }
        Ok(())
    }

    async fn try_for(self: &Arc<Self>, setup: &Setup, spec: &Edition, due: Timestamp, now: Timestamp) -> Result<(), DeskError> {
        let recipe = self.recipe(setup, spec).await?;
        let instant = self.edition_instant().await?;
        let mut cuttings = vec![];
        for file in &spec.files {
            cuttings.push(self.cut(&recipe, file, instant).await?);
        }
        let why = self.does_not_hold(spec, &cuttings).await?;
        drop(cuttings);
        // What came due while nobody ran is waited for from then on that somebody does.
        let since = due.max(*self.at_work.began.get_or_init(|| now));
        let until = (spec.holds.otherwise == Otherwise::Mark).then(|| since.plus(spec.holds.wait.unwrap_or(0)));
        let given_up = until.is_some_and(|until| now >= until);
        if !why.is_empty() && !given_up {
            self.holds_up(&spec.name, HeldUp { due, why, until });
            return Ok(());
        }
        self.no_longer_held_up(&spec.name);
        let remark = (!why.is_empty()).then(|| why.join("; "));
        self.make_edition(&spec.name, Why::Due(due), Some((recipe, instant)), remark).await.map(drop)
    }

    fn holds_up(&self, spec: &str, held: HeldUp) {
        self.at_work.held_up.lock().unwrap_or_else(PoisonError::into_inner).insert(spec.to_owned(), held);
    }

    fn no_longer_held_up(&self, spec: &str) {
        self.at_work.held_up.lock().unwrap_or_else(PoisonError::into_inner).remove(spec);
    }

    /// Whether anything was committed since an edition was last looked at, and it may be looked at again.
    fn has_news(&self, spec: &str) -> bool {
        let looked = self.at_work.looked.lock().unwrap_or_else(PoisonError::into_inner);
        looked.get(spec).is_none_or(|(newest, rest)| *newest != self.desk.store.newest() && Instant::now() >= *rest)
    }
}

/// The name of the period of a trade date.
fn named(every: Every, date: TradeDate) -> String {
    let civil = date.to_civil();
    match every {
        Every::Day => date.to_string(),
        Every::Week => {
            let week = civil.iso_week_date();
            format!("{}-W{:02}", week.year(), week.week())
        }
        Every::Month => date.to_string()[..7].to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_edition_is_called_by_its_period() {
        let date: TradeDate = "2024-12-30".parse().unwrap();
        assert_eq!([Every::Day, Every::Week, Every::Month].map(|e| named(e, date)), ["2024-12-30", "2025-W01", "2024-12"]);
    }
}
