//! Bars of adjusted series of which it is not clear what was paid: they have no part in golden series.

use crate::{
    Research,
    actions::Splits,
    golden::{Lineup, takes_part},
};
use mizuno_core::{Decimal, Slot, Spans, Timestamp, basis, finding::Split};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};

/// The slots of such bars, by the ids of their series.
#[derive(Clone, Default)]
pub struct Unclear(HashMap<i64, Arc<Spans>>);

/// Those that were lately worked out, each with what it follows from.
#[derive(Default)]
pub(crate) struct Remembered(Mutex<HashMap<i64, (FollowsFrom, Arc<Spans>)>>);

/// The series' revision, splits, tick and zone.
type FollowsFrom = (i64, Vec<Split>, Decimal, String);

impl Unclear {
    /// Those of a series.
    #[must_use]
    pub fn of(&self, series: i64) -> Option<&Spans> {
        self.0.get(&series).map(Arc::as_ref)
    }
}

impl Research {
    /// The slots of those of some series that take part in golden ones and have to be brought back.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn unclear(
        &self,
        setup: &Setup,
        splits: &Splits,
        rows: impl IntoIterator<Item = &SeriesRow>,
        as_of: Timestamp,
    ) -> Result<Unclear, DeskError> {
        let mut out = Unclear::default();
        for row in rows {
            // Most instruments were never split.
            if splits.of(setup, &row.key.symbol).is_none_or(<[Split]>::is_empty) {
                continue;
            }
            let Ok(Some(splits)) = takes_part(setup, splits, &row.key) else { continue };
            let Some(instrument) = setup.known(&row.key.symbol).filter(|_| !splits.is_empty()) else { continue };
            let (Some(tick), Some(venue)) = (instrument.tick_size, setup.config.venues.get(&instrument.venue)) else { continue };
            let follows = (row.revision, splits, tick, venue.zone.iana_name().unwrap_or_default().to_owned());
            // As of an instant before the newest bar, others may be there.
            let is_of_now = row.revision <= as_of.0;
            let lock = || self.unclear.0.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, known)) = lock().get(&row.id).filter(|(known, _)| is_of_now && *known == follows) {
                out.0.insert(row.id, known.clone());
                continue;
            }
            let versions = self.desk.store.versions(row, Slot(i64::MIN)..Slot(i64::MAX), as_of).await?;
            let made = basis::as_traded(&versions, as_of, &follows.1, &venue.zone, tick);
            let slots: Arc<Spans> = Arc::new(made.unclear.into_iter().map(|slot| row.key.interval.span_of(slot)).collect());
            if is_of_now {
                lock().insert(row.id, (follows, slots.clone()));
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
        let splits = self.splits(setup, as_of).await?;
        self.unclear(setup, &splits, lineup.parts.iter().map(|part| &part.row), as_of).await
    }
}
