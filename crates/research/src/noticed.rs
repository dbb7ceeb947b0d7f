//! Findings as a person asks for them: of which series, doubts first, with what other sources have in the same place.

use crate::{
    Research,
    findings::{Judged, offer_of},
};
use mizuno_config::profile::Adjusted;
use mizuno_core::{SeriesKey, Slot, Timestamp, finding::Check, time::DAY};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use std::cmp::Reverse;

/// Bars of other sources read to hold against one finding, at most.
const EVIDENCE: u64 = 2_000;

/// Which findings are asked about; what is absent narrows nothing.
#[derive(Clone, Debug, Default)]
pub struct WhichFindings {
    /// Symbol of an instrument, present or former.
    pub instrument: Option<String>,
    /// Name of a series.
    pub series: Option<String>,
    /// Name of a source.
    pub source: Option<String>,
    /// One check.
    pub check: Option<Check>,
    /// Also those that a person accepted.
    pub accepted: bool,
    /// At most so many.
    pub most: usize,
}

/// A finding in a series.
#[derive(Clone, Debug)]
pub struct Noticed {
    /// The series.
    pub series: SeriesKey,
    /// The finding, and whether a person accepted it.
    pub judged: Judged,
    /// What other sources have there; `None` where they were not looked at.
    pub witnesses: Option<Witnesses>,
}

/// Sources with prices as traded that have bars where a finding is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Witnesses {
    /// Those that have the same prices.
    pub agree: Vec<String>,
    /// Those that have others.
    pub differ: Vec<String>,
}

impl Research {
    /// What the checks find in the bars as they are now: doubts first, then the newest.
    ///
    /// # Errors
    /// When something is named that nobody knows, or the store cannot be read.
    pub async fn noticed(&self, setup: &Setup, which: &WhichFindings) -> Result<Vec<Noticed>, DeskError> {
        let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
        let all = self.desk.store.series().await?;
        setup.check_names(&all, which.source.as_deref(), which.series.as_deref(), None)?;
        let wanted = |r: &&SeriesRow| {
            symbol.as_ref().is_none_or(|s| *s == r.key.symbol)
                && which.series.as_ref().is_none_or(|s| *s == r.key.to_string())
                && which.source.as_ref().is_none_or(|s| *s == r.key.source)
        };
        let known = self.known(setup, self.desk.store.newest()).await?;
        let mut found: Vec<(&SeriesRow, Judged)> = vec![];
        for row in all.iter().filter(wanted) {
            let of_row = match self.findings(setup, row, &known).await {
                // One that cannot be read is told of by the status; the others are looked at all the same.
                Err(DeskError::Store(error)) if error.is_of_the_series() && which.series.is_none() => continue,
                judged => judged?,
            };
            found.extend(of_row.into_iter().map(|judged| (row, judged)));
        }
        found.retain(|(_, j)| which.check.is_none_or(|check| check == j.finding.check));
        found.retain(|(_, j)| which.accepted || !j.accepted);
        let moment = |row: &SeriesRow, slot: Slot| if row.key.interval.is_intraday() { slot.0 } else { slot.0 * DAY };
        found.sort_by_key(|(row, j)| Reverse((j.finding.check.severity(), moment(row, j.finding.span.end))));
        found.truncate(which.most);
        let mut out = vec![];
        for (row, judged) in found {
            let witnesses = self.witnesses(setup, row, &judged).await?;
            out.push(Noticed { series: row.key.clone(), judged, witnesses });
        }
        Ok(out)
    }

    /// What other sources with prices as traded have where a finding is.
    async fn witnesses(&self, setup: &Setup, row: &SeriesRow, judged: &Judged) -> Result<Option<Witnesses>, DeskError> {
        let as_traded = |key: &SeriesKey| offer_of(setup, key).is_some_and(|o| o.adjusted == Adjusted::No);
        let key = &row.key;
        if judged.finding.bars > EVIDENCE || !as_traded(key) {
            return Ok(None);
        }
        let (store, span) = (&self.desk.store, &judged.finding.span);
        let mine = store.bars(row, span.clone(), Timestamp::MAX).await?;
        let mut out = Witnesses::default();
        let others = store.sources_of(&key.symbol, key.interval, key.side).await?;
        for witness in others.iter().filter(|s| s.id != row.id && as_traded(&s.key)) {
            let theirs = store.bars(witness, span.clone(), Timestamp::MAX).await?;
            let same = |t: &mizuno_core::Bar| {
                let at = mine.rows.binary_search_by_key(&t.slot, |m| m.slot).ok()?;
                Some(t.prices() == mine.rows[at].prices())
            };
            let pairs: Vec<bool> = theirs.rows.iter().filter_map(same).collect();
            match pairs.iter().all(|same| *same) {
                _ if pairs.is_empty() => {}
                true => out.agree.push(witness.key.source.clone()),
                false => out.differ.push(witness.key.source.clone()),
            }
        }
        Ok(Some(out))
    }
}
