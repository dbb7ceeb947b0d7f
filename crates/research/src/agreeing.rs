//! The actions of an instrument held against the sources that publish adjusted prices of it.

use crate::{
    Research,
    adjusting::Adjusted,
    closes::Closes,
    findings::{Known, takes_out},
    golden::golden_days,
};
use futures_util::future::BoxFuture;
use jiff::tz::TimeZone;
use mizuno_core::{
    Decimal, Instrument, Interval, Side, Timestamp, TradeDate, Version, Versions,
    adjust::{Adjust, Effect},
    agreement::{Agreement, Ours, Step, ToldClose, agreement},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
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
    pub async fn agreed(&self, setup: &Setup, symbol: &str, as_of: Timestamp) -> Result<Vec<Agreed>, DeskError> {
        let known = self.known(setup, as_of).await?;
        let instrument = setup.instrument(symbol)?;
        let mut out = vec![];
        for row in self.desk.store.sources_of(&instrument.symbol, Interval::Daily, Side::Trade).await? {
            let Some(which) = takes_out(setup, &row.key) else { continue };
            let adjusted_for = if which == Adjust::All { "splits and dividends" } else { "splits" };
            let accounted = self.accounted_of(setup, &row, &known).await?;
            let found = accounted.as_ref().map(|accounted| accounted.agreement.clone()).filter(|found| found.sessions > 0);
            let says = accounted.map(|accounted| accounted.says.clone()).unwrap_or_default();
            out.push(Agreed { source: row.key.source, adjusted_for, found, says });
        }
        Ok(out)
    }

    /// The golden daily closes of those sources of an instrument that tell prices as traded; `None` where none does.
    pub(crate) async fn told_as_traded(&self, setup: &Setup, instrument: &Instrument, known: &Known) -> Result<Option<Closes>, DeskError> {
        let mut lineup = self.lined_up(setup, &golden_days(instrument), known).await?;
        lineup.leave_out(|part| part.basis.which().map(|_| "its prices are adjusted".to_owned()));
        Ok(lineup.ranks.iter().any(|(_, places)| !places.is_empty()).then(|| Closes::daily(lineup)))
    }

    /// Where the prices of an adjusted series step and the actions that were known do not account for it, each in a sentence. It is in a box
    /// since findings ask for it, and the closes that it is held against have findings too.
    pub(crate) fn unexplained<'r>(
        &'r self,
        setup: &'r Setup,
        row: &'r SeriesRow,
        known: &'r Known,
    ) -> BoxFuture<'r, Result<Vec<(Step, String)>, DeskError>> {
        Box::pin(async move {
            let Some(found) = self.accounted_of(setup, row, known).await? else { return Ok(vec![]) };
            // Whoever reads a finding reads its date before it.
            let without_date = |says: &String| says.split_once(": ").map_or_else(|| says.clone(), |(_, rest)| rest.to_owned());
            Ok(found.agreement.steps.iter().copied().zip(found.says.iter().map(without_date)).collect())
        })
    }
}

/// The newest version of each bar, those that were withdrawn left aside.
pub(crate) fn newest(versions: &Versions) -> impl Iterator<Item = &Version> {
    versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot).filter_map(|all| all.last().filter(|v| !v.withdrawn))
}

/// An adjusted series held against closes as traded: where the two agree, and each step in a sentence.
pub(crate) fn agreed_with(
    row: &SeriesRow,
    instrument: &Instrument,
    zone: &TimeZone,
    (versions, traded): (&Versions, &[(TradeDate, Decimal)]),
    (adjusted, which): (&Adjusted, Adjust),
) -> (Agreement, Vec<String>) {
    let told: Vec<ToldClose> = newest(versions)
        .map(|v| ToldClose { date: v.bar.slot.date(), learned: v.recorded_at.date_in(zone), close: v.bar.close() })
        .collect();
    let mut ours: Vec<(Ours, String)> = vec![];
    let mut idle: Vec<(TradeDate, String)> = vec![];
    for (known, judged) in adjusted.actions.iter().filter(|(_, judged)| which == Adjust::All || judged.action.is_of_shares()) {
        match &judged.effect {
            Effect::Applied { price, .. } => {
                let factor = price.to_f64().unwrap_or(1.0);
                ours.push((Ours { counts_on: judged.counts_on, factor }, known.action.to_string()));
            }
            Effect::Not(_) => idle.push((judged.counts_on, known.action.to_string())),
            Effect::AfterAnchor | Effect::NotAsked => {}
        }
    }
    let found = agreement(traded, &told, &ours.iter().map(|(ours, _)| *ours).collect::<Vec<_>>());
    let dividends = (which == Adjust::All).then_some(instrument);
    let says = found.steps.iter().map(|step| sentence(&row.key.source, step, &ours, &idle, dividends)).collect();
    (found, says)
}

/// What a step says, and what would explain it; a dividend only where the source takes out `dividends` of an instrument.
fn sentence(source: &str, step: &Step, ours: &[(Ours, String)], idle: &[(TradeDate, String)], dividends: Option<&Instrument>) -> String {
    if let Some(until) = step.until {
        let (on, theirs_first) = (step.on, step.ours == 1.0);
        let moved = |(o, _): &&(Ours, String)| o.counts_on == if theirs_first { until } else { on };
        let action = ours.iter().find(moved).map_or("an action", |(_, text)| text.as_str());
        let (at_source, here) = if theirs_first { (on, until) } else { (until, on) };
        return format!(
            "{on}: {source} takes out {action} from {at_source} on, and here it counts from {here} on; one of the two dates is wrong"
        );
    }
    let between = |date: TradeDate| step.before < date && date <= step.on;
    let mine: Vec<&str> = ours.iter().filter(|(o, _)| between(o.counts_on)).map(|(_, text)| text.as_str()).collect();
    let idle: Vec<&str> = idle.iter().filter(|(on, _)| between(*on)).map(|(_, text)| text.as_str()).collect();
    let split = step.as_split().map(|(new, old)| format!("a split of {new} for {old}"));
    let bonus = step.as_bonus().map(|held| format!("a bonus issue of 1 for {held}"));
    let dividend = dividends.zip(step.as_dividend()).map(|(i, amount)| format!("a dividend of {amount} {}", i.currency));
    let all: Vec<String> = if split.is_some() { split.into_iter().collect() } else { dividend.into_iter().chain(bonus).collect() };
    let explains = match &all[..] {
        [] => "no simple action would explain it".to_owned(),
        all => format!("{} would explain it", all.join(", or ")),
    };
    let (on, theirs) = (step.on, step.theirs);
    if !mine.is_empty() && (theirs - 1.0).abs() < 1e-3 {
        return format!("{on}: {source} does not take out {}; it lacks that action, or there was none", mine.join(" and "));
    }
    let here = match (mine.is_empty(), idle.is_empty()) {
        (false, _) => format!("{} by {:.6}", mine.join(" and "), step.ours),
        (true, false) => format!("{} is not applied here", idle.join(" and ")),
        (true, true) => "no action is known here".to_owned(),
    };
    format!("{on}: {source} multiplies the prices before by {theirs:.6}, and {here}; {explains}")
}
