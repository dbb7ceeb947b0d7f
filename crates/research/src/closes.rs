//! The closes of an instrument, which its actions and its dividends' rates are held against.

use crate::{Research, findings::Known, golden::Lineup};
use mizuno_config::GOLDEN;
use mizuno_core::{Calendar, Decimal, Instrument, Interval, Overlap, SeriesKey, Side, Timestamp, TradeDate, adjust::Adjust, spans::hull};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::blocks::Needed;

/// The closes that actions are held against.
#[derive(Clone)]
pub(crate) struct Closes {
    lineup: Lineup,
    /// Of bars of a day, or of a minute.
    pub interval: Interval,
}

impl Closes {
    /// Those of a daily line-up.
    pub(crate) fn daily(lineup: Lineup) -> Closes {
        Closes { lineup, interval: Interval::Daily }
    }

    /// What changes when one of them may.
    pub(crate) fn state(&self, setup: &Setup, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        self.lineup.state(setup, known, named)
    }

    /// Whether nothing has been learned of them since the instant.
    pub(crate) fn are_of_now(&self, setup: &Setup, known: &Known) -> Result<bool, DeskError> {
        for part in &self.lineup.parts {
            if !known.is_still_so(setup, &part.row)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

/// The golden series that may have the closes of an instrument, those of days before those of minutes.
fn keys(instrument: &Instrument, sides: &[Side]) -> impl Iterator<Item = SeriesKey> {
    let key = |(side, interval)| SeriesKey { symbol: instrument.symbol.clone(), interval, side, source: GOLDEN.to_owned() };
    sides.iter().flat_map(|side| [Interval::Daily, Interval::MINUTE].map(|interval| (*side, interval))).map(key)
}

/// The last close before a date.
pub(crate) fn last_before(closes: &[(TradeDate, Decimal)], date: TradeDate) -> Option<(TradeDate, Decimal)> {
    closes[..closes.partition_point(|(on, _)| *on < date)].last().copied()
}

impl Research {
    /// The closes of an instrument: golden daily ones, or of minutes where there are none; of the first side that has any.
    pub(crate) async fn closes(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        sides: &[Side],
        known: &Known,
    ) -> Result<Option<Closes>, DeskError> {
        for key in keys(instrument, sides) {
            let lineup = self.unexamined(setup, &key, known).await?;
            if !lineup.parts.is_empty() {
                return Ok(Some(Closes { lineup, interval: key.interval }));
            }
        }
        Ok(None)
    }

    /// The same without sources that adjust for dividends: their prices are brought back by such closes.
    pub(crate) async fn closes_without_adjusted(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        sides: &[Side],
        known: &Known,
    ) -> Result<Option<Closes>, DeskError> {
        for key in keys(instrument, sides) {
            let mut lineup = self.lined_up(setup, &key, known).await?;
            lineup.leave_out(|part| (part.basis.which() == Some(Adjust::All)).then(|| "its prices are adjusted for dividends".to_owned()));
            if !lineup.parts.is_empty() {
                return Ok(Some(Closes { lineup, interval: key.interval }));
            }
        }
        Ok(None)
    }

    /// The close of each session, in order.
    pub(crate) async fn read_closes(
        &self,
        setup: &Setup,
        closes: &Closes,
        calendar: &Calendar,
        known: &Known,
    ) -> Result<Vec<(TradeDate, Decimal)>, DeskError> {
        let mut lineup = closes.lineup.clone();
        self.examine_lineup(setup, &mut lineup, known).await?;
        let extent = self.desk.store.held(&lineup.parts.iter().map(|p| p.row.clone()).collect::<Vec<_>>(), known.as_of).await?;
        let extent = extent.values().filter_map(hull).reduce(|a, b| a.hull(&b));
        let Some(extent) = extent else { return Ok(vec![]) };
        let mut reading = self.golden_over(lineup, calendar, extent, known.as_of, Needed::CLOSE);
        let mut out: Vec<(TradeDate, Decimal)> = vec![];
        while let Some(made) = reading.next().await? {
            for bar in &made.bars.rows {
                let date = calendar.date_of(closes.interval, bar.slot);
                match out.last_mut() {
                    Some((last, close)) if *last == date => *close = bar.close(),
                    _ => out.push((date, bar.close())),
                }
            }
        }
        Ok(out)
    }
}
