//! What a person accepts: absences and findings, by their ids or as a stretch of a series.

use crate::{Research, basis::takes_part, whole::union};
use mizuno_config::GOLDEN;
use mizuno_core::{SeriesKey, Slot, Span};
use mizuno_desk::{DeskError, Event, Setup, View, moments};
use mizuno_store::{excuses::ExcuseRow, series::SeriesRow};
use std::sync::Arc;

/// What is to be accepted.
#[derive(Clone, Debug)]
pub enum Excused {
    /// Gaps, by their ids; those of golden series too.
    Gaps(Vec<String>),
    /// Findings, by their ids.
    Findings(Vec<String>),
    /// Whatever is absent of a series in a range.
    Stretch {
        /// Name of the series.
        series: String,
        /// First trade date or instant.
        from: String,
        /// Last trade date, included, or an instant, not included.
        to: String,
    },
}

/// What is accepted: the series, the span, and the check when it is a finding.
type Accepted = (SeriesRow, Span, Option<String>);

fn no_gap(id: &str) -> DeskError {
    let hint = "it may have been closed or have moved; list the gaps again".to_owned();
    DeskError::Unknown { kind: "gap", id: id.to_owned(), hint, see: "gaps" }
}

impl Research {
    /// Accepts all of something, or none when one part of it cannot be found.
    ///
    /// # Errors
    /// When the name or the reason is empty, something is not there, or nothing can be written.
    pub async fn excuse(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        what: Excused,
        by: &str,
        note: &str,
    ) -> Result<Vec<(ExcuseRow, SeriesKey)>, DeskError> {
        let (by, note) = (by.trim(), note.trim());
        if by.is_empty() || note.is_empty() {
            return Err(DeskError::Invalid("an excuse needs a name (`by`) and a reason (`note`); nothing closes silently".to_owned()));
        }
        let absent = |spans: Vec<(SeriesRow, Span)>| spans.into_iter().map(|(row, span)| (row, span, None)).collect();
        let accepted: Vec<Accepted> = match what {
            Excused::Gaps(ids) => absent(self.gaps_named(setup, &ids).await?),
            Excused::Findings(ids) => self.findings_named(setup, &ids).await?,
            Excused::Stretch { series, from, to } => absent(vec![self.stretch(setup, &series, &from, &to).await?]),
        };
        let spans = accepted.iter().map(|(row, span, check)| (row.id, span.clone(), check.clone())).collect();
        let ids = self.desk.store.excuse(spans, by.to_owned(), note.to_owned()).await?;
        self.desk.events.tell(Event::Excuses);
        let key = |series: i64| accepted.iter().find(|(row, ..)| row.id == series).map(|(row, ..)| row.key.clone());
        let given = self.desk.store.excuses().await?.into_iter().filter(|e| ids.contains(&e.id));
        Ok(given.filter_map(|e| key(e.series).map(|key| (e, key))).collect())
    }

    /// Takes an excuse back; its slots are missing again.
    ///
    /// # Errors
    /// When there is no such excuse, or nothing can be written.
    pub async fn revoke(&self, id: i64) -> Result<(), DeskError> {
        self.desk.store.revoke_excuse(id).await?;
        self.desk.events.tell(Event::Excuses);
        Ok(())
    }

    /// The findings of these ids.
    async fn findings_named(&self, setup: &Setup, ids: &[String]) -> Result<Vec<Accepted>, DeskError> {
        let known = self.known(setup, self.desk.store.newest()).await?;
        let mut out = vec![];
        for id in ids {
            let unknown = || DeskError::Unknown { kind: "finding", id: id.clone(), hint: "list them again".to_owned(), see: "findings" };
            let (key, _) = moments::parse_gap_id(id.split('#').next().unwrap_or_default()).map_err(|_| unknown())?;
            let row = self.desk.store.find_series(&key).await?.ok_or_else(unknown)?;
            let judged = self.findings(setup, &row, &known).await?;
            let one = judged.into_iter().find(|j| moments::finding_id(&key, &j.finding) == *id).ok_or_else(unknown)?;
            out.push((row, one.finding.span, Some(one.finding.check.word().to_owned())));
        }
        Ok(out)
    }

    /// The series and spans of these gaps.
    async fn gaps_named(self: &Arc<Self>, setup: &Arc<Setup>, ids: &[String]) -> Result<Vec<(SeriesRow, Span)>, DeskError> {
        let (mut wanted, mut out) = (vec![], vec![]);
        for id in ids {
            let (key, slot) = moments::parse_gap_id(id)?;
            let key = setup.present(key);
            match key.source == GOLDEN {
                true => out.extend(self.of_golden(setup, id, &key, slot).await?),
                false => wanted.push((id, key, slot)),
            }
        }
        let mut rows = vec![];
        for (_, key, _) in &wanted {
            rows.push(self.desk.series_named(setup, &key.to_string()).await?);
        }
        rows.sort_by_key(|r: &SeriesRow| r.id);
        rows.dedup_by_key(|r| r.id);
        let views = self.desk.views(setup, rows).await?;
        let gaps: std::collections::HashMap<(&SeriesKey, Slot), (&SeriesRow, &Span)> =
            views.iter().flat_map(|v| v.gaps().iter().map(move |g| ((&v.row.key, g.span.start), (&v.row, &g.span)))).collect();
        for (id, key, slot) in &wanted {
            let (row, span) = gaps.get(&(key, *slot)).ok_or_else(|| no_gap(id))?;
            out.push(((*row).clone(), (*span).clone()));
        }
        Ok(out)
    }

    async fn stretch(&self, setup: &Setup, name: &str, from: &str, to: &str) -> Result<(SeriesRow, Span), DeskError> {
        let key = name.parse::<SeriesKey>().map_err(DeskError::unreadable)?;
        let row = self.desk.series_named(setup, &key.to_string()).await?;
        let post = setup.post_of(&row.key).ok_or_else(|| DeskError::Invalid(format!("no collector keeps {key}")))?;
        let span = moments::span(moments::Asked { from: Some(from), to: Some(to) }, key.interval, post.calendar)?;
        Ok((row, span))
    }

    /// The gaps at each source that make a gap of a golden series: who accepts that nobody has a bar accepts it at each of them.
    async fn of_golden(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        id: &str,
        key: &SeriesKey,
        slot: Slot,
    ) -> Result<Vec<(SeriesRow, Span)>, DeskError> {
        let known = self.known(setup, self.desk.store.newest()).await?;
        let mut rows = self.desk.store.sources_of(&key.symbol, key.interval, key.side).await?;
        rows.retain(|r| takes_part(setup, &known, &r.key).is_ok());
        let views = self.desk.views(setup, rows).await?;
        let unclear = self.unclear(setup, &known, views.iter().map(|v| &v.row)).await?;
        let whole = union(setup, views.iter().map(View::sighted), &unclear);
        let span = whole.and_then(|w| w.gaps().into_iter().map(|(span, _)| span).find(|span| span.start == slot));
        let span = span.ok_or_else(|| no_gap(id))?;
        let without = views.iter().filter(|v| v.standing.missing().overlaps(&span));
        Ok(without.map(|v| (v.row.clone(), span.clone())).collect())
    }
}
