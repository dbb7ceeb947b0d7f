//! From a bar to its versions, to the fetch that brought each, to the bytes, to the very line in them.

use crate::{desk::Desk, error::ServiceError, moments, setup::Setup};
use mizuno_api::{BarVersion, Restatement};
use mizuno_core::{Bar, Decimal, SeriesKey, Slot, Timestamp, Version};
use mizuno_sources::{Page, decode};
use mizuno_store::{
    answers::AnsweredPage,
    fetches::{FetchRow, Filter},
    series::SeriesRow,
};
use std::collections::HashSet;

/// Every version of one bar, oldest first.
pub(crate) async fn trace(desk: &Desk, setup: &Setup, row: &SeriesRow, slot: Slot) -> Result<Vec<BarVersion>, ServiceError> {
    let versions = desk.store.versions(row, row.key.interval.span_of(slot), Timestamp::MAX).await?;
    let mut out = vec![];
    for version in &versions.rows {
        let fetch = desk.store.fetch(version.fetch).await?;
        let found = place(desk, setup, row, &fetch, &version.bar).await?;
        let (page, line, text) = found.map_or((None, None, None), |(place, text)| (Some(place.page + 1), Some(place.row), Some(text)));
        let pages = desk.store.pages(&fetch).await?;
        let came_on = page.and_then(|p| pages.get(p as usize - 1)).or(pages.first());
        out.push(BarVersion {
            series: row.key.to_string(),
            recorded_at: version.recorded_at.to_string(),
            values: values(&version.bar, version.withdrawn),
            withdrawn: version.withdrawn,
            fetch: fetch.id,
            run: fetch.run,
            request: came_on.map(|p| setup.without_secrets(&p.request)).unwrap_or_default(),
            payload: came_on.and_then(|p| p.payload.clone()),
            page,
            line,
            text: text.map(|t| setup.without_secrets(&t)),
        });
    }
    Ok(out)
}

/// Where a fetch's answer has a bar, and the text there: the kept bytes are understood again, and must say the same.
async fn place(
    desk: &Desk,
    setup: &Setup,
    row: &SeriesRow,
    fetch: &FetchRow,
    bar: &Bar,
) -> Result<Option<(decode::Place, String)>, ServiceError> {
    let Some(post) = setup.post_of(&row.key) else { return Ok(None) };
    let answered = desk.store.answered_pages(fetch).await?;
    let pages = to_understand(&answered);
    let profile = &post.source.profile;
    let symbol = profile.symbols.of(&post.symbol_for(setup, &row.key.symbol, &fetch.window));
    let most = profile.limits.largest_answer();
    let Ok(decoded) = decode::decode(post.offer, post.venue, &symbol, most, &pages) else { return Ok(None) };
    let at = decoded.bars.rows.iter().position(|b| b == bar);
    Ok(at.map(|at| {
        let place = decoded.places[at];
        let text = decode::texts_of(&post.offer.answer, &symbol, most, &pages, &HashSet::from([place])).remove(&place);
        (place, text.unwrap_or_default())
    }))
}

/// Kept pages as the decoder takes them.
pub(crate) fn to_understand(answered: &[AnsweredPage]) -> Vec<Page<'_>> {
    answered
        .iter()
        .map(|p| Page { part: p.part.as_deref(), media_type: p.media_type.as_deref(), body: p.body.as_deref().unwrap_or_default() })
        .collect()
}

/// Open, high, low, close and volume as they were printed; none of a bar that was taken back.
pub(crate) fn values(bar: &Bar, withdrawn: bool) -> Vec<Option<String>> {
    if withdrawn {
        return vec![None; 5];
    }
    let printed = |d: Decimal| d.to_string();
    bar.prices().into_iter().map(|p| Some(printed(p))).chain([bar.volume().map(printed)]).collect()
}

/// Bars whose later versions were learned since some moment, newest first.
pub(crate) async fn restatements(
    desk: &Desk,
    since: Timestamp,
    wanted: &dyn Fn(&SeriesKey) -> bool,
    most: usize,
) -> Result<Vec<Restatement>, ServiceError> {
    let series: std::collections::HashMap<i64, SeriesRow> = desk.store.series().await?.into_iter().map(|s| (s.id, s)).collect();
    let mut out = vec![];
    // The ledger knows which fetches restated something, so only their windows are opened.
    for fetch in desk.store.fetches(Filter { restated: true, ..Filter::default() }, 100_000).await? {
        if fetch.answered_at < since || out.len() >= most {
            break;
        }
        let Some(row) = series.get(&fetch.series).filter(|s| wanted(&s.key)) else { continue };
        let versions = desk.store.versions(row, fetch.window.clone(), Timestamp::MAX).await?;
        for pair in versions.rows.windows(2).filter(|p| p[0].bar.slot == p[1].bar.slot && p[1].fetch == fetch.id) {
            out.push(restatement(row, &pair[0], &pair[1]));
        }
    }
    out.truncate(most);
    Ok(out)
}

fn restatement(row: &SeriesRow, was: &Version, is: &Version) -> Restatement {
    Restatement {
        series: row.key.to_string(),
        at: moments::wire(row.key.interval, is.bar.slot),
        learned_at: is.recorded_at.to_string(),
        fetch: is.fetch,
        was: values(&was.bar, was.withdrawn),
        is: values(&is.bar, is.withdrawn),
    }
}
