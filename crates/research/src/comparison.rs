//! Two series side by side, or one as of two instants, with what differs all along.

use crate::Research;
use mizuno_config::GOLDEN;
use mizuno_core::{
    Aligned, SeriesKey, Timestamp,
    compare::{Comparison, Tolerance, compare},
    diagnose::diagnose,
};
use mizuno_desk::{DeskError, Setup, moments};

/// What is compared.
#[derive(Clone, Debug)]
pub struct Pair {
    /// A series, and the instant it is known at.
    pub here: (SeriesKey, Timestamp),
    /// Another.
    pub there: (SeriesKey, Timestamp),
    /// First trade date or instant.
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    pub to: Option<String>,
    /// So many ticks apart is still the same.
    pub ticks: u32,
    /// Differences listed at most.
    pub most: usize,
}

impl Research {
    /// The name of a stored series, or of a golden one in which some source has a part.
    ///
    /// # Errors
    /// When there is none.
    pub async fn series_or_golden(&self, setup: &Setup, name: &str) -> Result<SeriesKey, DeskError> {
        match name.parse::<SeriesKey>() {
            Ok(key) if key.source == GOLDEN => {
                let key = setup.present(key);
                let lineup = self.lineup(setup, &key, self.desk.store.newest()).await?;
                if lineup.parts.is_empty() { Err(self.desk.no_series(name).await?) } else { Ok(key) }
            }
            _ => Ok(self.desk.series_named(setup, name).await?.key),
        }
    }

    /// What matches and what differs, and advice for the profile of a source that differs all along.
    ///
    /// # Errors
    /// When the two have bars of other lengths, the range cannot be read, or the store.
    pub async fn compare(&self, setup: &Setup, pair: &Pair) -> Result<(Comparison, Vec<String>), DeskError> {
        let ((here, here_at), (there, there_at)) = (&pair.here, &pair.there);
        let interval = here.interval;
        if interval != there.interval {
            return Err(DeskError::Invalid(format!("{here} and {there} have bars of other lengths; compare series of one interval")));
        }
        let instrument = setup.instrument(&here.symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let span = moments::span(moments::Asked { from: pair.from.as_deref(), to: pair.to.as_deref() }, interval, calendar)?;
        let a = self.all_bars(&*self.desk.setup_at(*here_at).await?, here, calendar, span.clone(), *here_at).await?;
        let b = self.all_bars(&*self.desk.setup_at(*there_at).await?, there, calendar, span, *there_at).await?;
        let found = compare(interval, &a, &b, Tolerance { tick: instrument.tick_size, ticks: pair.ticks }, pair.most);
        // What is the same, or nearly, needs no diagnosis. Advice is for a source's profile, and a golden series has none.
        let close = found.equal * 100 >= found.matched * 99 && found.only_here.is_empty() && found.only_there.is_empty();
        let (usual, odd, source) = if there.source == GOLDEN { (&b, &a, &here.source) } else { (&a, &b, &there.source) };
        let diagnosis = match close || source == GOLDEN {
            true => vec![],
            false => {
                let found = diagnose(interval, calendar, &Aligned::of(usual), &Aligned::of(odd));
                found.iter().map(|s| s.advice(interval, source)).collect()
            }
        };
        Ok((found, diagnosis))
    }
}
