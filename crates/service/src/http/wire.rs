//! From what is kept to what goes over the wire.

use crate::{moments, run::Order};
use mizuno_core::SeriesKey;
use mizuno_store::{
    excuses::ExcuseRow,
    fetches::{FetchRow, PageRow},
    runs::{Figures, RunRow},
};

pub(crate) fn completeness(c: mizuno_core::Completeness) -> mizuno_api::Completeness {
    mizuno_api::Completeness { expected: c.expected, held: c.held, excused: c.excused, missing: c.missing, quiet: c.quiet }
}

pub(crate) fn run(row: &RunRow, figures: Figures) -> mizuno_api::Run {
    mizuno_api::Run {
        id: row.id,
        collector: row.collector.clone(),
        reason: kind(row).to_owned(),
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
        calls_in_last_minute: None,
        calls_a_minute: None,
        rate: None,
        seconds_left: None,
        failures: figures.failures,
    }
}

/// Why a run was started, in a word: an audit and a new basis are told of as such, whoever asked.
fn kind(row: &RunRow) -> &'static str {
    let order: Order = serde_json::from_str(&row.scope).unwrap_or_default();
    match order {
        Order { rebase: true, .. } => "new-basis",
        Order { audit: Some(_), .. } => "audit",
        _ => row.reason.word(),
    }
}

pub(crate) fn fetch(row: &FetchRow, key: &SeriesKey) -> mizuno_api::Fetch {
    let (failure, message) = row.failure.clone().map(|f| (f.class, f.message)).unzip();
    mizuno_api::Fetch {
        id: row.id,
        run: row.run,
        series: key.to_string(),
        from: moments::wire(key.interval, row.window.start),
        to: moments::wire(key.interval, row.window.end),
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
        from: moments::wire(key.interval, row.span.start),
        to: moments::wire(key.interval, row.span.end),
        by: row.by.clone(),
        note: row.note.clone(),
        given_at: row.given_at.to_string(),
        revoked_at: row.revoked_at.map(|t| t.to_string()),
        finding: row.finding.clone(),
    }
}
