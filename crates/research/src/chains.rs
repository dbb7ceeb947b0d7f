//! Futures by their chains: which contract stands in each session.

use crate::{
    Research,
    findings::Known,
    golden::{Lineup, golden_days},
    reading::Leg,
    rolled::{Chain, ContractCloses},
    universes::Sights,
};
use futures_util::TryStreamExt;
use mizuno_config::{Chain as Described, GOLDEN};
use mizuno_core::{
    Bar, Decimal, Instrument, Interval, Overlap, SeriesKey, Side, Span, Timestamp, TradeDate,
    roll::{By, Contract, Day, Line, rolled},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::{blocks::Needed, payloads};
use std::sync::Arc;

/// What a chain follows from: the setup it is rolled with, its name and state.
pub(crate) type FollowsFrom = (u64, String, String);

/// Chains that are remembered.
pub(crate) const REMEMBERED: usize = 128;

impl Research {
    /// A chain as it was known at an instant, which is `named` where a question names it.
    ///
    /// # Errors
    /// When there is none of that name, or the store cannot be read.
    pub async fn chain(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        name: &str,
        instant: Timestamp,
        named: Option<Timestamp>,
    ) -> Result<Arc<Chain>, DeskError> {
        let all = &setup.config.chains;
        let described = all.get(name).ok_or_else(|| DeskError::unknown("chain", name, all.keys().map(String::as_str)))?;
        let known = self.known(setup, instant).await?;
        let calendar = setup.calendars.get(&described.venue);
        let calendar =
            calendar.ok_or_else(|| DeskError::Invalid(format!("{name} trades on {}, which is no venue any more", described.venue)))?;
        let closed = calendar.closed_by(instant);
        let by = by_present_symbols(setup, &described.roll);
        let instruments = contracts_of(setup, described, &by);
        let mut state = closed.to_be_bytes().to_vec();
        let (mut rows, mut lineups) = (vec![], vec![]);
        for instrument in &instruments {
            let lineup = self.unexamined(setup, &golden_days(instrument), &known).await?;
            let days = [instrument.expiry, instrument.first_notice, instrument.last_traded];
            state.extend(instrument.symbol.bytes());
            state.extend(days.iter().flat_map(|d| d.map_or(0, |d| d.0).to_be_bytes()));
            state.extend(lineup.state(setup, &known, named)?);
            rows.extend(lineup.parts.iter().map(|part| part.row.clone()));
            lineups.push(lineup);
        }
        let state = payloads::digest(&state);
        let key = (setup.serial, name.to_owned(), state.clone());
        let roll = async {
            let sights = Arc::new(self.sights(setup, rows, instant).await?);
            let contracts = self.contracts(setup, instruments.iter().cloned().zip(lineups), (&known, &sights)).await?;
            let (contracts, sources): (Vec<Contract>, Vec<Vec<u16>>) = contracts.into_iter().unzip();
            let mut rolled = rolled(&contracts, calendar.sessions(), closed, &by, described.nth);
            if let By::Table(table) = &by {
                let unknown = table.iter().filter(|line| instruments.iter().all(|i| i.symbol != line.contract));
                let told =
                    unknown.map(|line| format!("{}, which the table names from {} on, is not of this chain", line.contract, line.from));
                rolled.notes.extend(told);
            }
            Ok(Chain { name: name.to_owned(), contracts, sources, instruments, rolled, state })
        };
        self.chains.recall_or(key, roll).await
    }

    async fn contracts(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        instruments: impl Iterator<Item = (Instrument, Lineup)>,
        (known, sights): (&Arc<Known>, &Arc<Sights>),
    ) -> Result<Vec<(Contract, Vec<u16>)>, DeskError> {
        let (research, setup, known, sights) = (self.clone(), setup.clone(), known.clone(), sights.clone());
        let one = move |(instrument, lineup): (Instrument, Lineup)| {
            let (research, setup, known, sights) = (research.clone(), setup.clone(), known.clone(), sights.clone());
            async move { research.contract(&setup, &instrument, lineup, (&known, &sights)).await }
        };
        self.desk.hands.side_by_side("reading a contract", instruments, one).try_collect().await
    }

    async fn contract(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        lineup: Lineup,
        known: (&Known, &Sights),
    ) -> Result<(Contract, Vec<u16>), DeskError> {
        let always = TradeDate(i32::MIN)..TradeDate(i32::MAX);
        let needed = Needed { volume: true, open_interest: true, ..Needed::CLOSE };
        let (bars, sources) = self.daily_of(setup, instrument, lineup, (always, needed), known).await?;
        let nought = Decimal { mantissa: 0, scale: 0 };
        let day =
            |b: &Bar| Day { date: b.slot.date(), close: b.close(), volume: b.volume().unwrap_or(nought), open_interest: b.open_interest() };
        let expiry = instrument.expiry.or(instrument.last_traded).unwrap_or(TradeDate(i32::MAX));
        let contract = Contract {
            symbol: instrument.symbol.clone(),
            expiry,
            first_notice: instrument.first_notice,
            last_traded: instrument.last_traded.unwrap_or(expiry),
            days: bars.rows.iter().map(day).collect(),
        };
        Ok((contract, sources))
    }

    /// The legs of a chain that lie in `span`, with their series; `what` is the series asked for, `shifts` what the prices of each are shifted by.
    pub(crate) async fn legs(
        &self,
        setup: &Setup,
        chain: &Arc<Chain>,
        (what, span): (&SeriesKey, &Span),
        shifts: Option<&[Decimal]>,
        known: &Known,
    ) -> Result<Vec<Leg>, DeskError> {
        let Some(first) = chain.instruments.first() else { return Ok(vec![]) };
        let calendar = setup.calendar_of(first)?;
        // The chain was rolled by such bars.
        let rolled_by = what.interval == Interval::Daily && what.side == Side::Trade && what.source == GOLDEN;
        let mut out = vec![];
        for (at, (contract, own)) in chain.legs(calendar, what.interval).into_iter().enumerate() {
            let span = own.clip(span);
            if span.is_empty() {
                continue;
            }
            let key = SeriesKey { symbol: contract.clone(), ..what.clone() };
            let subject = match self.unexamined_subject(setup, &key, known).await {
                // A contract without such bars is a gap in the series.
                Err(DeskError::Unknown { .. } | DeskError::Invalid(_)) => continue,
                subject => subject?,
            };
            let shift = shifts.map(|s| s[at]).filter(|s| s.mantissa != 0);
            let closes = rolled_by.then(|| ContractCloses { chain: chain.clone(), contract: chain.rolled.legs[at].contract });
            out.push(Leg { contract, span, subject, shift, closes });
        }
        Ok(out)
    }
}

/// The contracts of a chain in order of expiry; without a product, the instruments of its table in its order.
fn contracts_of(setup: &Setup, described: &Described, by: &By) -> Vec<Instrument> {
    if let (None, By::Table(table)) = (&described.product, by) {
        let mut out: Vec<Instrument> = vec![];
        for instrument in table.iter().filter_map(|line| setup.known(&line.contract)) {
            if instrument.venue == described.venue && out.iter().all(|other| other.symbol != instrument.symbol) {
                out.push(instrument.clone());
            }
        }
        return out;
    }
    let ends = |i: &Instrument| i.expiry.or(i.last_traded);
    let is_one = |i: &&Instrument| {
        i.venue == described.venue && i.product.is_some() && i.product == described.product && i.strike.is_none() && ends(i).is_some()
    };
    let mut out: Vec<Instrument> = setup.config.instruments.iter().filter(is_one).cloned().collect();
    out.sort_by(|a, b| (ends(a), &a.symbol).cmp(&(ends(b), &b.symbol)));
    out
}

/// A table may name an instrument by a symbol that it has given up.
fn by_present_symbols(setup: &Setup, by: &By) -> By {
    let present = |symbol: &String| setup.instrument(symbol).map_or_else(|_| symbol.clone(), |i| i.symbol.clone());
    match by {
        By::Table(table) => By::Table(table.iter().map(|line| Line { contract: present(&line.contract), ..line.clone() }).collect()),
        by => by.clone(),
    }
}
