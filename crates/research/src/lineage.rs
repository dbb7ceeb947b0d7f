//! From a bar to its versions, to the fetch that brought each, to the bytes, to the very line in them.

use crate::Research;
use mizuno_core::{Bar, SeriesKey, Slot, Timestamp, Version};
use mizuno_desk::{Desk, DeskError, Setup, kept::to_understand};
use mizuno_sources::decode;
use mizuno_store::{
    fetch::{FetchRow, PageRow},
    fetches::Filter,
    series::SeriesRow,
};
use std::collections::HashSet;

/// One version of a bar, and where it came from.
#[derive(Clone, Debug)]
pub struct Traced {
    /// What was learned.
    pub version: Version,
    /// The fetch that brought it.
    pub fetch: FetchRow,
    /// The page of the answer it stands on; the first where that is not known.
    pub page: Option<PageRow>,
    /// Where it stands in the answer, and the text there without secrets, where the kept bytes still say so.
    pub stands: Option<(decode::Place, String)>,
}

/// A bar that its source changed.
#[derive(Clone, Debug)]
pub struct Restated {
    /// Its series.
    pub series: SeriesKey,
    /// What was held.
    pub was: Version,
    /// What was learned then.
    pub is: Version,
}

impl Research {
    /// Every version of one bar, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn trace(&self, setup: &Setup, row: &SeriesRow, slot: Slot) -> Result<Vec<Traced>, DeskError> {
        let store = &self.desk.store;
        let versions = store.versions(row, row.key.interval.span_of(slot), Timestamp::MAX).await?;
        let mut out = vec![];
        for version in versions.rows {
            let fetch = store.fetch(version.fetch).await?;
            let stands = place(&self.desk, setup, row, &fetch, &version.bar).await?;
            let stands = stands.map(|(place, text)| (place, setup.without_secrets(&text)));
            let mut pages = store.pages(&fetch).await?;
            let at = stands.as_ref().map_or(0, |(place, _)| place.page as usize);
            let at = if at < pages.len() { at } else { 0 };
            let page = (!pages.is_empty()).then(|| pages.swap_remove(at));
            let page = page.map(|p| PageRow { request: setup.without_secrets(&p.request), ..p });
            out.push(Traced { version, fetch, page, stands });
        }
        Ok(out)
    }

    /// Bars whose later versions were learned since some moment, newest first, at most `most`.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn restatements(
        &self,
        since: Timestamp,
        wanted: &dyn Fn(&SeriesKey) -> bool,
        most: usize,
    ) -> Result<Vec<Restated>, DeskError> {
        let store = &self.desk.store;
        let series = store.series().await?;
        let mut out = vec![];
        // The ledger knows which fetches restated something, so only their windows are opened.
        for fetch in store.fetches(Filter { restated: true, ..Filter::default() }, 100_000).await? {
            if fetch.answered_at < since || out.len() >= most {
                break;
            }
            let Some(row) = series.get(fetch.series).filter(|s| wanted(&s.key)) else { continue };
            let versions = store.versions(row, fetch.window.clone(), Timestamp::MAX).await?;
            let of_one = |p: &&[Version]| p[0].bar.slot == p[1].bar.slot && p[1].fetch == fetch.id && p[1].restates(&p[0]);
            for pair in versions.rows.windows(2).filter(of_one) {
                out.push(Restated { series: row.key.clone(), was: pair[0], is: pair[1] });
            }
        }
        out.truncate(most);
        Ok(out)
    }
}

/// Where a fetch's answer has a bar, and the text there: the kept bytes are understood again, and must say the same.
async fn place(
    desk: &Desk,
    setup: &Setup,
    row: &SeriesRow,
    fetch: &FetchRow,
    bar: &Bar,
) -> Result<Option<(decode::Place, String)>, DeskError> {
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
