//! From what is kept to what goes over the wire.

use mizuno_collect::{
    Trial, Tried,
    lists::{Change, ListStanding, Said},
};
use mizuno_core::{
    Bar, Decimal, Interval, SeriesKey, Slot, Timestamp, Venue,
    adjust::{Effect, Judged},
    resample::Length,
    time::DAY,
};
use mizuno_desk::{Event, events::RunNow, moments};
use mizuno_research::{
    actions::{KnownAction, Origin},
    answer::{
        Member, Prepared,
        batch::{Heading, Kind},
    },
    explain::Told,
    lineage::{Restated, Traced},
    question::{File, Format, Question, Shape},
};
use mizuno_sources::Answered;
use mizuno_store::{
    excuses::ExcuseRow,
    fetch::{FetchRow, PageRow},
};

pub(crate) fn completeness(c: mizuno_core::Completeness) -> mizuno_api::Completeness {
    mizuno_api::Completeness { expected: c.expected, held: c.held, excused: c.excused, missing: c.missing, quiet: c.quiet }
}

pub(crate) fn run(run: &RunNow) -> mizuno_api::Run {
    let (row, figures, pace) = (&run.row, &run.figures, &run.pace);
    mizuno_api::Run {
        id: row.id,
        collector: row.collector.clone(),
        reason: run.why.to_owned(),
        state: row.state.word().to_owned(),
        started_at: row.started_at.to_string(),
        ended_at: row.ended_at.map(|t| t.to_string()),
        windows: row.windows as u64,
        done: figures.done as u64,
        folded: figures.folded as u64,
        failed: figures.failed as u64,
        bars_new: figures.bars_new as u64,
        bars_same: figures.bars_same as u64,
        restated: figures.restated as u64,
        refused: figures.refused as u64,
        bytes: figures.bytes as u64,
        calls: figures.calls as u64,
        calls_in_last_minute: pace.calls_a_minute.map(|(sent, _)| sent),
        calls_a_minute: pace.calls_a_minute.map(|(_, allowed)| allowed),
        rate: pace.rate,
        seconds_left: pace.seconds_left,
        waits_for: run.waits_for.clone(),
        failures: figures.failures.clone(),
    }
}

pub(crate) fn event(event: &Event) -> mizuno_api::Event {
    match event {
        Event::Run(now) => mizuno_api::Event::Run { run: run(now) },
        Event::Fetch(row, series) => mizuno_api::Event::Fetch { fetch: fetch(row, series) },
        Event::Excuses => mizuno_api::Event::Excuses,
        Event::Lists => mizuno_api::Event::Lists,
        Event::Editions => mizuno_api::Event::Editions,
    }
}

pub(crate) fn fetch(row: &FetchRow, key: &SeriesKey) -> mizuno_api::Fetch {
    let (failure, message) = row.failure.clone().map(|f| (f.class, f.message)).unzip();
    mizuno_api::Fetch {
        id: row.id,
        run: row.run,
        series: key.to_string(),
        from: moments::written(key.interval, row.window.start),
        to: moments::written(key.interval, row.window.end),
        state: row.state.clone(),
        asked_at: row.asked_at.to_string(),
        answered_at: row.answered_at.to_string(),
        attempts: row.attempts as u64,
        request: row.request.clone(),
        status: row.status.map(|s| s as u16),
        payload: row.payload.clone(),
        payload_bytes: row.payload_size as u64,
        rows: row.rows as u64,
        bars_new: row.learned.new,
        bars_same: row.learned.same,
        restated: row.learned.restated,
        refused: row.refused as u64,
        unfinished: row.unfinished as u64,
        outside: row.outside as u64,
        folded: row.folded,
        failure,
        message,
        first_lines: None,
        pages: vec![],
    }
}

pub(crate) fn page(row: PageRow) -> mizuno_api::FetchPage {
    mizuno_api::FetchPage {
        part: row.part,
        request: row.request,
        status: row.status.map(|s| s as u16),
        media_type: row.media_type,
        payload: row.payload,
        bytes: row.size as u64,
    }
}

pub(crate) fn excuse(row: &ExcuseRow, key: &SeriesKey) -> mizuno_api::Excuse {
    mizuno_api::Excuse {
        id: row.id,
        series: key.to_string(),
        from: moments::written(key.interval, row.span.start),
        to: moments::written(key.interval, row.span.end),
        by: row.by.clone(),
        note: row.note.clone(),
        given_at: row.given_at.to_string(),
        revoked_at: row.revoked_at.map(|t| t.to_string()),
        finding: row.finding.clone(),
    }
}

pub(crate) fn list(list: &ListStanding) -> mizuno_api::ListStatus {
    let last = list.last.as_ref();
    let (failure, message) = last.and_then(|f| f.failure.clone()).map(|f| (f.class, f.message)).unzip();
    mizuno_api::ListStatus {
        source: list.source.clone(),
        list: list.list.clone(),
        of: list.of.word().to_owned(),
        venue: list.venue.clone(),
        next: list.next.to_string(),
        last: last.map(|f| f.asked_at.to_string()),
        request: last.map(|f| f.request.clone()),
        rows: last.map_or(0, |f| f.rows as u64),
        refused: last.map_or(0, |f| f.refused as u64),
        failure,
        message,
        repeated: last.map_or(0, |f| f.repeated as u64),
        would_end: last.and_then(|f| f.would_end).map(|n| n as u64),
        ending: list.ending.clone(),
    }
}

pub(crate) fn list_change(said: Said) -> mizuno_api::ListChange {
    let change = match said.change {
        Change::New => "new",
        Change::Changed => "changed",
        Change::Gone => "gone",
        Change::Renamed => "renamed",
    };
    let object = |columns| serde_json::to_string::<std::collections::BTreeMap<String, String>>(&columns).unwrap_or_default();
    mizuno_api::ListChange {
        source: said.source,
        list: said.list,
        at: said.at.to_string(),
        change: change.to_owned(),
        key: said.key,
        was_key: said.was_key,
        was: said.was.map(object),
        is: said.is.map(object),
    }
}

pub(crate) fn trial(ask: mizuno_api::Try) -> Trial {
    let mizuno_api::Try { source, profile, instrument, interval, side, from, to } = ask;
    Trial { source, profile, instrument, interval, side, from, to }
}

pub(crate) fn tried(tried: &Tried) -> mizuno_api::Tried {
    let key = &tried.series;
    let page = |p: &Answered| mizuno_api::FetchPage {
        part: p.part.clone(),
        request: p.request.clone(),
        status: p.status,
        media_type: p.media_type.clone(),
        payload: None,
        bytes: p.body.as_ref().map_or(0, |b| b.len() as u64),
    };
    let read = tried.outcome.as_ref().ok();
    let failed = tried.outcome.as_ref().err();
    mizuno_api::Tried {
        series: key.to_string(),
        from: moments::written(key.interval, tried.window.start),
        to: moments::written(key.interval, tried.window.end),
        key: tried.key.clone(),
        pages: tried.pages.iter().map(page).collect(),
        first_lines: tried.first_lines.clone(),
        failure: failed.map(|f| f.class.word().to_owned()),
        message: failed.map(|f| f.message.clone()),
        rows: read.map_or(0, |r| r.rows),
        sound: read.map_or(0, |r| r.sound),
        unfinished: read.map_or(0, |r| r.unfinished),
        zone: tried.venue.zone_name().to_owned(),
        bars: read.map_or(vec![], |r| r.bars.iter().map(|b| tried_bar(b, key.interval, &tried.venue)).collect()),
        refused: read.map_or(vec![], |r| r.refused.iter().map(tried_row).collect()),
        refused_count: read.map_or(0, |r| r.refused_count),
        hints: read.map_or(vec![], |r| r.hints.clone()),
    }
}

fn tried_row((place, because, text): &(mizuno_sources::Place, String, String)) -> mizuno_api::TriedRow {
    mizuno_api::TriedRow { line: place.row, because: because.clone(), text: text.clone() }
}

fn tried_bar(b: &Bar, interval: Interval, venue: &Venue) -> mizuno_api::TriedBar {
    let time = match interval {
        Interval::Daily => b.slot.date().to_string(),
        Interval::Intraday { .. } => venue.zone.to_datetime(b.slot.instant().to_jiff()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
    };
    let [open, high, low, close] = b.prices().map(|p| p.to_string());
    let [volume, open_interest] = [b.volume(), b.open_interest()].map(|n| n.map(|n| n.to_string()));
    mizuno_api::TriedBar { time, open, high, low, close, volume, open_interest }
}

/// Open, high, low, close, volume and open interest as they were printed; none of a bar that was taken back.
pub(crate) fn values(bar: &Bar, withdrawn: bool) -> Vec<Option<String>> {
    if withdrawn {
        return vec![None; 6];
    }
    let printed = |d: Decimal| d.to_string();
    let others = [bar.volume(), bar.open_interest()].map(|n| n.map(printed));
    bar.prices().into_iter().map(|p| Some(printed(p))).chain(others).collect()
}

pub(crate) fn traced(series: &SeriesKey, traced: &Traced) -> mizuno_api::BarVersion {
    let Traced { version, fetch, page, stands } = traced;
    mizuno_api::BarVersion {
        series: series.to_string(),
        recorded_at: version.recorded_at.to_string(),
        values: values(&version.bar, version.withdrawn),
        withdrawn: version.withdrawn,
        fetch: fetch.id,
        run: fetch.run,
        request: page.as_ref().map(|p| p.request.clone()).unwrap_or_default(),
        payload: page.as_ref().and_then(|p| p.payload.clone()),
        page: stands.as_ref().map(|(place, _)| place.page + 1),
        line: stands.as_ref().map(|(place, _)| place.row),
        text: stands.as_ref().map(|(_, text)| text.clone()),
    }
}

pub(crate) fn restated(found: &Restated) -> mizuno_api::Restatement {
    let Restated { series, was, is } = found;
    mizuno_api::Restatement {
        series: series.to_string(),
        at: moments::written(series.interval, is.bar.slot),
        learned_at: is.recorded_at.to_string(),
        fetch: is.fetch,
        was: values(&was.bar, was.withdrawn),
        is: values(&is.bar, is.withdrawn),
    }
}

pub(crate) fn action((known, judged): &(KnownAction, Judged)) -> mizuno_api::Action {
    let (mut factors, mut why) = (None, None);
    let effect = match &judged.effect {
        Effect::Applied { price, volume } => {
            factors = Some((price.to_string(), volume.to_string()));
            "applied"
        }
        Effect::NotAsked => "not-asked",
        Effect::AfterAnchor => "after-anchor",
        Effect::Not(reason) => {
            why = Some(reason.clone());
            "not-applied"
        }
    };
    let (id, reason) = match &known.from {
        Origin::Person { id, reason, .. } => (Some(*id), Some(reason.clone())),
        Origin::List(_) => (None, None),
    };
    let (price_factor, volume_factor) = factors.unzip();
    mizuno_api::Action {
        id,
        ex_date: known.action.ex_date.to_string(),
        counts_on: judged.counts_on.to_string(),
        kind: known.action.kind().to_owned(),
        terms: known.action.to_string(),
        from: known.from.name().to_owned(),
        reason,
        learned_at: known.learned.to_string(),
        effect: effect.to_owned(),
        why,
        close_on: judged.close.map(|(date, _)| date.to_string()),
        close: judged.close.map(|(_, close)| close.to_string()),
        rate: judged.rounded_rate().map(|rate| rate.to_string()),
        price_factor,
        volume_factor,
    }
}

pub(crate) fn action_check(agreed: mizuno_research::agreeing::Agreed) -> mizuno_api::ActionCheck {
    let steps = agreed.found.iter().flat_map(|found| &found.steps).zip(agreed.says);
    mizuno_api::ActionCheck {
        source: agreed.source,
        adjusted_for: agreed.adjusted_for.to_owned(),
        sessions: agreed.found.as_ref().map(|found| found.sessions),
        steps: steps
            .map(|(step, says)| mizuno_api::ActionStep {
                before: step.before.to_string(),
                on: step.on.to_string(),
                theirs: step.theirs,
                ours: step.ours,
                says,
            })
            .collect(),
    }
}

pub(crate) fn explanation(prepared: &Prepared, told: &[Told]) -> mizuno_api::Explanation {
    let resolved = &prepared.resolved;
    let question = &resolved.asked;
    let column = |h: &Heading| mizuno_api::ColumnTold {
        name: h.name.clone(),
        holds: match h.kind {
            Kind::Moment => "instant",
            Kind::Date => "date",
            Kind::Number(_) => "number",
            Kind::Real => "float",
            Kind::Words(_) => "word",
            Kind::Flag => "flag",
            Kind::Whole => "whole",
        }
        .to_owned(),
        optional: h.optional,
    };
    let series = prepared.members.iter().zip(told).map(|(member, told)| series_told(member, told, resolved.instant)).collect();
    mizuno_api::Explanation {
        as_of: resolved.instant.to_string(),
        configuration: mizuno_api::ConfigurationTold {
            number: resolved.setup.kept.id,
            accepted_at: resolved.setup.kept.accepted_at.to_string(),
            stands_for_earlier: resolved.is_before_configuration(),
        },
        question: question.digest(),
        resolved: resolved.digest(),
        columns: prepared.headings().iter().map(column).collect(),
        series,
        without: resolved
            .without
            .iter()
            .map(|(instrument, why)| mizuno_api::Without { instrument: instrument.clone(), why: why.clone() })
            .collect(),
        universe: resolved.universe.as_ref().map(|u| u.name.clone()),
        completeness: prepared.completeness().map(completeness),
        blocks: told.iter().map(|t| t.blocks).sum(),
        bytes: told.iter().map(|t| t.bytes).sum(),
        adjustment: prepared.adjustment(),
        units: prepared.units(),
        stamps: stamps(question, &prepared.members),
        forms: forms(question),
    }
}

fn series_told(member: &Member, told: &Told, now: Timestamp) -> mizuno_api::SeriesTold {
    let (key, span) = (&member.wanted.key, &member.wanted.span);
    // An open end, or one still to come, is told as absent.
    let to_come = if key.interval.is_intraday() { now.0 } else { now.0 / DAY + 1 };
    let moment = |slot: Slot| (slot.0 > i64::MIN && slot.0 <= to_come).then(|| moments::written(key.interval, slot));
    let source = |(name, basis): &(String, String)| mizuno_api::SourceTold { source: name.clone(), basis: basis.clone() };
    let left_out = |(source, why): &(String, String)| mizuno_api::LeftOut { source: source.clone(), why: why.clone() };
    mizuno_api::SeriesTold {
        series: key.to_string(),
        from: moment(span.start),
        to: moment(span.end),
        bars: told.bars,
        completeness: told.completeness.map(completeness),
        sources: told.sources.iter().map(source).collect(),
        left_out: told.left_out.iter().map(left_out).collect(),
        chain: member.wanted.chain.as_ref().map(|chain| chain.name.clone()),
        actions: member.adjusted.iter().flat_map(|a| &a.actions).map(action).collect(),
        blocks: told.blocks,
        bytes: told.bytes,
    }
}

/// What the stamps of an answer mean, in a sentence, and what its bars are made of.
fn stamps(question: &Question, members: &[Member]) -> String {
    let finer = members.iter().map(|m| m.wanted.key.interval).find(|finer| question.length() != Length::Interval(*finer));
    let made = finer.map_or_else(String::new, |finer| format!("; bars of {} are made of bars of {finer}", question.interval_word()));
    if question.longer.is_some() {
        let which = if question.pieces.by_last { "last" } else { "first" };
        return format!("the trade date of the {which} session of each bar, on its venue's calendar{made}");
    }
    if !question.interval.is_intraday() {
        return format!("the trade date of each bar, on its venue's calendar{made}");
    }
    let end = if question.shape.at_end { "end" } else { "opening" };
    format!("the {end} of each bar, by the clock of {}{made}", question.shape.clock)
}

fn forms(question: &Question) -> mizuno_api::Forms {
    let address = |question: &Question| format!("/api/v1/bars?{}", serde_urlencoded::to_string(question.to_pairs()).unwrap_or_default());
    let csv = |question: &Question| Question { file: File { format: Format::Csv, ..question.file }, ..question.clone() };
    let parquet = Question {
        file: File { format: Format::Parquet, floats: true, ..File::default() },
        shape: Shape { stamp: Default::default(), ..question.shape.clone() },
        ..question.clone()
    };
    mizuno_api::Forms {
        toml: question.to_toml(),
        json: question.to_json(),
        command: question.to_command(),
        address: address(question),
        data_frame: format!("import pandas\nbars = pandas.read_parquet(\"{{service}}{}\")", address(&parquet)),
        spreadsheet: format!("{{service}}{}", address(&csv(question))),
    }
}
