//! Bars of adjusted series of which it is not clear what was paid: they have no part in golden series.

use crate::{
    Research,
    basis::{Basis, basis_of},
    findings::Known,
    golden::Lineup,
    lately::OfSeries,
};
use mizuno_core::{
    Decimal, Interval, Slot, Spans, Timestamp,
    basis::{self, TakenOut},
    spans::intersection,
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use std::{collections::HashMap, sync::Arc};

/// The slots of such bars, by the ids of their series.
#[derive(Clone, Default)]
pub struct Unclear(HashMap<i64, Arc<Spans>>);

/// Those that were lately worked out, each with what it follows from.
pub(crate) type Remembered = OfSeries<FollowsFrom, Spans>;

/// The series' revision, what is taken out of it, tick and zone.
type FollowsFrom = (i64, Arc<[TakenOut]>, Decimal, String);

impl Unclear {
    /// Those of a series.
    #[must_use]
    pub fn of(&self, series: i64) -> Option<&Spans> {
        self.0.get(&series).map(Arc::as_ref)
    }

    /// How many of the slots of a series in which bars are held are among them.
    #[must_use]
    pub fn count(&self, series: i64, interval: Interval, held: &Spans) -> u64 {
        self.of(series).map_or(0, |slots| interval.count(intersection(slots, held)))
    }
}

impl Research {
    /// The slots of those of some series that take part in golden ones, or are adjusted alone, and have to be brought back.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn unclear(&self, setup: &Setup, known: &Known, rows: impl IntoIterator<Item = &SeriesRow>) -> Result<Unclear, DeskError> {
        let mut out = Unclear::default();
        for row in rows {
            let taken_out = match basis_of(setup, known, &row.key) {
                Ok(Basis::All(_)) => {
                    out.0.insert(row.id, self.unaccounted(setup, row, known).await?);
                    continue;
                }
                // Most instruments were never split.
                Ok(Basis::Splits(taken_out)) if !taken_out.is_empty() => taken_out,
                Ok(Basis::Splits(_) | Basis::AsTold) | Err(_) => continue,
            };
            let Some(instrument) = setup.known(&row.key.symbol) else { continue };
            let (Some(tick), Some(venue)) = (instrument.tick_size, setup.config.venues.get(&instrument.venue)) else { continue };
            let follows = (row.revision, taken_out, tick, venue.zone.iana_name().unwrap_or_default().to_owned());
            // As of an instant before the newest bar, others may be there.
            let is_of_now = row.revision <= known.as_of.0;
            if let Some(found) = self.unclear.recall(row.id, &follows).filter(|_| is_of_now) {
                out.0.insert(row.id, found);
                continue;
            }
            let versions = self.desk.store.versions(row, Slot(i64::MIN)..Slot(i64::MAX), known.as_of).await?;
            let made = basis::as_traded(&versions, known.as_of, &follows.1, &venue.zone, tick);
            let slots: Arc<Spans> = Arc::new(made.unclear.into_iter().map(|slot| row.key.interval.span_of(slot)).collect());
            if is_of_now {
                self.unclear.keep(row.id, follows, slots.clone());
            }
            out.0.insert(row.id, slots);
        }
        Ok(out)
    }

    /// The same of the parts of a line-up.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn unclear_in(&self, setup: &Setup, lineup: &Lineup, as_of: Timestamp) -> Result<Unclear, DeskError> {
        let known = self.known(setup, as_of).await?;
        self.unclear(setup, &known, lineup.parts.iter().map(|part| &part.row)).await
    }
}
