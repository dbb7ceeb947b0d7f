//! Bars of adjusted series of which it is not clear what was paid: they have no part in golden series.

use crate::{
    Research,
    basis::{Accounted, is_adjusted},
    findings::Known,
    golden::Lineup,
    reading::Subject,
};
use futures_util::TryStreamExt;
use mizuno_core::{
    Interval, Slot, Spans, Timestamp,
    spans::{intersection, within},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use std::{collections::HashMap, sync::Arc};

/// How far actions account for some adjusted series, by the ids of these.
#[derive(Clone, Default)]
pub struct Unclear(HashMap<i64, Arc<Accounted>>);

impl Unclear {
    /// The slots of a series in which it has no part; `None` where that is never so.
    #[must_use]
    pub fn of(&self, series: i64) -> Option<&Spans> {
        self.0.get(&series).map(|accounted| &accounted.unclear).filter(|slots| !slots.is_empty())
    }

    /// How many of the bars that a series holds cannot be brought back for certain, of those that actions account for.
    #[must_use]
    pub fn count(&self, series: i64, interval: Interval, held: &Spans) -> u64 {
        self.0.get(&series).map_or(0, |accounted| {
            let since = within(held, &(Slot::on(accounted.from)..Slot(i64::MAX)));
            interval.count(intersection(&accounted.unclear, &since))
        })
    }

    /// Says of each adjusted source of a subject how far actions account for it.
    pub(crate) fn tell(&self, subject: &mut Subject) {
        subject.each_lineup(&mut |lineup| {
            for part in &mut lineup.parts {
                if let Some(accounted) = self.0.get(&part.row.id) {
                    part.basis.set(accounted.clone());
                }
            }
        });
    }
}

impl Research {
    /// How far actions account for those of some series that are adjusted.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn unclear(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        known: &Arc<Known>,
        rows: impl IntoIterator<Item = &SeriesRow>,
    ) -> Result<Unclear, DeskError> {
        let adjusted: Vec<SeriesRow> = rows.into_iter().filter(|row| is_adjusted(setup, &row.key)).cloned().collect();
        let (research, setup, known) = (self.clone(), setup.clone(), known.clone());
        let one = move |row: SeriesRow| {
            let (research, setup, known) = (research.clone(), setup.clone(), known.clone());
            async move { Ok((row.id, research.accounted_of(&setup, &row, &known).await?)) }
        };
        let mut found = self.desk.hands.side_by_side("bringing prices back", adjusted, one);
        let mut out = Unclear::default();
        while let Some((series, accounted)) = found.try_next().await? {
            out.0.extend(accounted.map(|accounted| (series, accounted)));
        }
        Ok(out)
    }

    /// The same of the parts of a line-up.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn unclear_in(self: &Arc<Self>, setup: &Arc<Setup>, lineup: &Lineup, as_of: Timestamp) -> Result<Unclear, DeskError> {
        let known = self.known(setup, as_of).await?;
        self.unclear(setup, &known, lineup.parts.iter().map(|part| &part.row)).await
    }
}
