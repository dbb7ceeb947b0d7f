//! The actions of an instrument held against the sources that publish adjusted prices of it.

use crate::{
    Research,
    adjusting::{Adjusted, Closes},
    findings::offer_of,
};
use mizuno_config::{GOLDEN, profile};
use mizuno_core::{
    Instrument, Interval, SeriesKey, Side, Slot, Timestamp, TradeDate,
    adjust::Effect,
    agreement::{Agreement, Ours, Step, Told, agreement},
};
use mizuno_desk::{DeskError, Setup};
use num_traits::ToPrimitive;

/// What a source's adjusted prices say of our actions.
#[derive(Clone, Debug)]
pub struct Agreed {
    /// The source.
    pub source: String,
    /// What it adjusts for, in words.
    pub adjusted_for: &'static str,
    /// Where the two agree, and where they do not; `None` where no other source tells the prices as traded.
    pub found: Option<Agreement>,
    /// Each step in a sentence.
    pub says: Vec<String>,
}

impl Research {
    /// Holds the actions of an instrument against each source that publishes adjusted daily prices of it.
    ///
    /// # Errors
    /// When the instrument is not known, or the store cannot be read.
    pub async fn agreed(&self, setup: &Setup, symbol: &str, adjusted: &Adjusted, as_of: Timestamp) -> Result<Vec<Agreed>, DeskError> {
        let known = self.known(setup, as_of).await?;
        let instrument = setup.instrument(symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let key = SeriesKey { symbol: instrument.symbol.clone(), interval: Interval::Daily, side: Side::Trade, source: GOLDEN.to_owned() };
        let mut out = vec![];
        for row in self.desk.store.sources_of(&instrument.symbol, Interval::Daily, Side::Trade).await? {
            let all = match offer_of(setup, &row.key).map(|offer| offer.adjusted) {
                Some(profile::Adjusted::Splits) => false,
                Some(profile::Adjusted::SplitsAndDividends) => true,
                Some(profile::Adjusted::No) | None => continue,
            };
            let mut lineup = self.unexamined(setup, &key, &known).await?;
            lineup.only_as_traded();
            let source = row.key.source.clone();
            let adjusted_for = if all { "splits and dividends" } else { "splits" };
            if lineup.ranks.iter().all(|(_, places)| places.is_empty()) {
                out.push(Agreed { source, adjusted_for, found: None, says: vec![] });
                continue;
            }
            let traded = self.read_closes(setup, &Closes::daily(lineup), calendar, &known).await?;
            let zone = setup.config.venues.get(&instrument.venue).map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
            let versions = self.desk.store.versions(&row, Slot(i64::MIN)..Slot(i64::MAX), as_of).await?;
            let newest = versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot).filter_map(|all| all.last().filter(|v| !v.withdrawn));
            let told: Vec<Told> =
                newest.map(|v| Told { date: v.bar.slot.date(), learned: v.recorded_at.date_in(&zone), close: v.bar.close() }).collect();
            let ours: Vec<(Ours, String)> = adjusted
                .actions
                .iter()
                .filter_map(|(known, judged)| {
                    let Effect::Applied { price, .. } = &judged.effect else { return None };
                    let counts = all || judged.action.is_of_shares();
                    let ours = Ours { counts_on: judged.counts_on, factor: price.to_f64()? };
                    counts.then(|| (ours, known.action.to_string()))
                })
                .collect();
            let found = agreement(&traded, &told, &ours.iter().map(|(ours, _)| *ours).collect::<Vec<_>>());
            let says = found.steps.iter().map(|step| sentence(&source, step, &ours, instrument, all)).collect();
            out.push(Agreed { source, adjusted_for, found: Some(found), says });
        }
        Ok(out)
    }
}

/// What a step says, and what would explain it.
fn sentence(source: &str, step: &Step, ours: &[(Ours, String)], instrument: &Instrument, all: bool) -> String {
    let between = |date: TradeDate| step.before < date && date <= step.on;
    let mine: Vec<&str> = ours.iter().filter(|(o, _)| between(o.counts_on)).map(|(_, text)| text.as_str()).collect();
    let near = |factor: f64| (factor - 1.0).abs() < 1e-3;
    let dividend = step.as_dividend().filter(|_| all).map(|amount| format!("a dividend of {amount} {}", instrument.currency));
    let split = step.as_split().map(|(new, old)| format!("a split of {new} for {old}"));
    let explains =
        split.or(dividend).map_or_else(|| "no simple action would explain it".to_owned(), |what| format!("{what} would explain it"));
    let on = step.on;
    match (mine.is_empty(), near(step.theirs)) {
        (false, true) => format!("{on}: {source} does not take out {}; it lacks that action, or there was none", mine.join(" and ")),
        (false, false) => format!(
            "{on}: {source} multiplies the prices before by {:.6}, and {} by {:.6}; {explains}",
            step.theirs,
            mine.join(" and "),
            step.ours
        ),
        (true, _) => format!("{on}: {source} multiplies the prices before by {:.6}, and no action is known here; {explains}", step.theirs),
    }
}
