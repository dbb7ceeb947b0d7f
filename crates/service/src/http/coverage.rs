//! Held against expected, as a table.

use super::{problem::Refusal, query::Query};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{Coverage, CoverageRow};
use mizuno_core::{Interval, Session, TradeDate};
use mizuno_desk::{Desk, DeskError, View};
use mizuno_store::series::SeriesRow;
use serde::Deserialize;
use utoipa::IntoParams;

/// Columns in one answer at most.
const MOST_COLUMNS: usize = 3000;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Table {
    /// Interval of the series to show.
    interval: String,
    /// First trade date; sixty sessions ago when left out, or the first of all by months.
    from: Option<String>,
    /// Last trade date, included; the newest when left out.
    to: Option<String>,
    /// `session` (also when left out) or `month`.
    by: Option<String>,
    /// Symbol of one instrument only.
    instrument: Option<String>,
}

/// How complete each series is, session by session or month by month.
#[utoipa::path(params(Table), responses((status = 200, body = Coverage)))]
#[get("/api/v1/coverage")]
pub(super) async fn show_coverage(desk: Data<Desk>, table: Query<Table>) -> Result<Json<Coverage>, Refusal> {
    let setup = desk.setup();
    let interval: Interval = table.interval.parse().map_err(|e: mizuno_core::interval::NotAnInterval| Refusal::invalid(e.to_string()))?;
    let by_month = match table.by.as_deref() {
        None | Some("session") => false,
        Some("month") => true,
        Some(other) => return Err(Refusal::invalid(format!("by: `{other}` is neither session nor month"))),
    };
    let symbol = table.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    let wanted = |r: &&SeriesRow| r.key.interval == interval && symbol.as_ref().is_none_or(|s| *s == r.key.symbol);
    let rows = desk.store.series().await?.iter().filter(wanted).cloned().collect();
    let views = desk.views(&setup, rows).await?;
    let columns = columns(&desk, &views, &table, by_month)?;
    let row = |view: &View<'_>| {
        let due = |(_, dates): &(String, std::ops::Range<TradeDate>)| {
            view.completeness(&view.post.calendar.span_of_dates(interval, dates.clone()))
        };
        let cells: Vec<_> = columns.iter().map(due).collect();
        CoverageRow {
            series: view.row.key.to_string(),
            symbol: view.row.key.symbol.clone(),
            expected: cells.iter().map(|c| c.expected).collect(),
            held: cells.iter().map(|c| c.held).collect(),
            excused: cells.iter().map(|c| c.excused).collect(),
            quiet: cells.iter().map(|c| c.quiet).collect(),
        }
    };
    let rows = views.iter().map(row).collect();
    let by = if by_month { "month" } else { "session" }.to_owned();
    Ok(Json(Coverage { by, columns: columns.into_iter().map(|(name, _)| name).collect(), rows }))
}

type Columns = Vec<(String, std::ops::Range<TradeDate>)>;

/// The columns, over the sessions of all venues that have series here.
fn columns(desk: &Desk, views: &[View<'_>], table: &Table, by_month: bool) -> Result<Columns, Refusal> {
    let now = desk.clock.now();
    let date = |name: &str, text: &Option<String>| {
        let read = text.as_ref().map(|t| t.parse::<TradeDate>()).transpose();
        read.map_err(|e| Refusal::from(DeskError::Invalid(format!("{name}: {e}"))))
    };
    let (from, to) = (date("from", &table.from)?, date("to", &table.to)?);
    if let (Some(a), Some(b)) = (from, to)
        && a > b
    {
        return Err(Refusal::invalid(format!("the range from {a} to {b} is empty; `from` must not come after `to`")));
    }
    let mut dates: Vec<TradeDate> = vec![];
    let mut seen = std::collections::BTreeSet::new();
    for view in views.iter().filter(|v| seen.insert(&v.post.venue.code)) {
        let since = views.iter().map(|v| v.post.collector.since).min().unwrap_or(TradeDate(0));
        let sessions = view.post.calendar.between(from.unwrap_or(since)..to.map_or(TradeDate(i32::MAX), |d| d.plus(1)));
        dates.extend(sessions.iter().take_while(|s: &&Session| s.open() <= now).map(|s| s.date));
    }
    dates.sort_unstable();
    dates.dedup();
    if by_month {
        let mut out: Columns = vec![];
        for d in dates {
            let month = d.to_civil().strftime("%Y-%m").to_string();
            match out.last_mut() {
                Some((name, span)) if *name == month => span.end = d.plus(1),
                _ => out.push((month, d..d.plus(1))),
            }
        }
        return Ok(out);
    }
    let most = if from.is_some() { MOST_COLUMNS } else { 60 };
    let skip = dates.len().saturating_sub(most);
    Ok(dates[skip..].iter().map(|d| (d.to_string(), *d..d.plus(1))).collect())
}
