//! The true prices, from a seed: the same ones every time.
//!
//! A market factor moves everything on a venue, each instrument has a noise of
//! its own, and within a session prices take a random walk between the closes.
//! The contracts of one good move as one, a little dearer with each month.
//! Daily bars are the sum of their minutes, exactly.

use crate::actions;
use mizuno_config::{parse_instruments, venue};
use mizuno_core::{Action, Calendar, Instrument, Session, Timestamp, TradeDate, Venue};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::{collections::HashMap, path::Path, sync::OnceLock};

/// A bar in whole units of the market's last digit (see [`Market::digits`]).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Tick {
    /// When it opens.
    pub open_at: Timestamp,
    /// Open, high, low and close.
    pub prices: [i64; 4],
    /// Shares traded.
    pub volume: i64,
}

/// The daily bar of one session, and what its minutes are drawn from.
#[derive(Clone, Copy, Debug)]
pub struct Day {
    /// Its trade date.
    pub date: TradeDate,
    /// The bar; `None` on a day without a trade.
    pub bar: Option<Tick>,
    before: f64,
    close: f64,
    /// How many shares there are for one of the first.
    shares: f64,
    /// Contracts open at its end.
    pub open_interest: Option<i64>,
}

/// One share and how it moves.
struct Mover {
    instrument: Instrument,
    seed: u64,
    /// What moves it: its own noise, its company's, or that of the good it is a contract on.
    own: u64,
    /// How much dearer than the good itself, in logarithms.
    carry: f64,
    /// Units of the last digit in one.
    units: f64,
    start: f64,
    beta: f64,
    noise: f64,
    trades_a_day: Option<u32>,
    shares_a_minute: f64,
    actions: Vec<Action>,
    /// The day on which there is more of it than anybody can use, and its price falls below nought.
    glut: Option<TradeDate>,
    days: OnceLock<Vec<Day>>,
}

/// A market and its past.
pub struct Market {
    /// The venue.
    pub venue: Venue,
    calendar: Calendar,
    movers: HashMap<String, Mover>,
    seed: u64,
    /// Digits after the point in every price.
    pub digits: u8,
}

const FIRST: TradeDate = TradeDate(16_804); // 4 January 2016
const LAST: TradeDate = TradeDate(20_820); // 2 January 2027
const GLUT: TradeDate = TradeDate(20_153); // 6 March 2025

fn hash(text: &str, seed: u64) -> u64 {
    text.bytes().fold(seed ^ 0xcbf2_9ce4_8422_2325, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0000_0100_0000_01b3))
}

fn dice(seed: u64, date: TradeDate) -> Pcg64Mcg {
    Pcg64Mcg::seed_from_u64(seed ^ (date.0 as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15))
}

/// Near enough to a normal variate: the sum of four uniform ones, scaled to a deviation of one.
fn bell(dice: &mut Pcg64Mcg) -> f64 {
    let sum: f64 = (0..4).map(|_| dice.random::<f64>()).sum();
    (sum - 2.0) * 3f64.sqrt()
}

impl Market {
    /// The Aldermere Stock Exchange.
    #[must_use]
    pub fn aldermere(seed: u64) -> Market {
        let venue = include_str!("../../../demo/config/venues/aldx.toml");
        Market::of(venue, include_str!("../../../demo/config/instruments/aldx.csv"), seed, 2)
    }

    /// The Corran Futures Exchange.
    #[must_use]
    pub fn corran(seed: u64) -> Market {
        let venue = include_str!("../../../demo/config/venues/corf.toml");
        Market::of(venue, include_str!("../../../demo/config/instruments/corf.csv"), seed, 2)
    }

    /// Meridian FX.
    #[must_use]
    pub fn meridian(seed: u64) -> Market {
        let venue = include_str!("../../../demo/config/venues/mfx.toml");
        Market::of(venue, include_str!("../../../demo/config/instruments/mfx.csv"), seed, 5)
    }

    /// A market made of a venue file and an instrument list.
    ///
    /// # Panics
    /// When one of them is not sound; those of the demo are, as a test sees to.
    #[must_use]
    #[allow(clippy::expect_used, reason = "the demo's files are compiled in")]
    pub fn of(venue: &str, list: &str, seed: u64, digits: u8) -> Market {
        let venue = venue::parse(Path::new("venue.toml"), venue).expect("the venue file is sound");
        let list = parse_instruments(Path::new("instruments.csv"), list).expect("the instrument list is sound");
        let calendar = Calendar::new(&venue, FIRST..LAST);
        let movers = list.into_iter().map(|i| (i.symbol.clone(), Mover::new(i, seed, digits))).collect();
        Market { venue, calendar, movers, seed, digits }
    }

    /// An instrument of it.
    #[must_use]
    pub fn instrument(&self, symbol: &str) -> Option<&Instrument> {
        self.movers.get(symbol).map(|m| &m.instrument)
    }

    /// A price as it is printed.
    #[must_use]
    pub fn print(&self, price: i64) -> String {
        mizuno_core::Decimal { mantissa: price, scale: self.digits }.to_string()
    }

    /// The splits and bonus issues of a symbol: the first date on the new basis, and how many shares became of how many.
    pub fn splits(&self, symbol: &str) -> impl Iterator<Item = (TradeDate, i64, i64)> {
        let all = self.movers.get(symbol).map_or(&[][..], |m| &m.actions);
        all.iter().filter_map(|a| actions::shares(a).map(|(new, old)| (a.ex_date, new, old)))
    }

    /// Its symbols, in order.
    #[must_use]
    pub fn symbols(&self) -> Vec<String> {
        let mut all: Vec<String> = self.movers.keys().cloned().collect();
        all.sort();
        all
    }

    /// Its sessions.
    #[must_use]
    pub fn calendar(&self) -> &Calendar {
        &self.calendar
    }

    /// The daily bars of a symbol, oldest first; `None` for an unknown one.
    #[must_use]
    pub fn days(&self, symbol: &str) -> Option<&[Day]> {
        let mover = self.movers.get(symbol)?;
        Some(mover.days.get_or_init(|| mover.walk(self.seed, &self.calendar)))
    }

    /// The minute bars of one session of a symbol; empty when it did not trade.
    #[must_use]
    pub fn minutes(&self, symbol: &str, date: TradeDate) -> Vec<Tick> {
        let day = self.days(symbol).and_then(|days| days.iter().find(|d| d.date == date));
        match (self.movers.get(symbol), day, self.calendar.session(date)) {
            (Some(mover), Some(day), Some(session)) => mover.minutes(session, day.before, day.close, day.shares),
            _ => vec![],
        }
    }
}

impl Mover {
    fn new(instrument: Instrument, seed: u64, digits: u8) -> Mover {
        let symbol = instrument.symbol.as_str();
        // The two classes of one company move almost as one, the contracts on one good quite.
        let part = if instrument.kind == "future" { '-' } else { '.' };
        let family = symbol.split(part).next().unwrap_or(symbol);
        let own = hash(family, seed);
        let mut dice = Pcg64Mcg::seed_from_u64(own);
        let months = instrument.expiry.map_or(0, |e| e.0 - FIRST.0) / 30;
        let mut mover = Mover {
            own: if instrument.kind == "future" { own } else { hash(symbol, seed) },
            carry: f64::from(months) * 0.004,
            units: 10f64.powi(i32::from(digits)),
            seed: hash(symbol, seed),
            start: dice.random_range(2.0..40.0),
            beta: dice.random_range(0.5..1.4),
            noise: dice.random_range(0.008..0.02),
            trades_a_day: None,
            shares_a_minute: dice.random_range(40.0..900.0),
            actions: if instrument.venue == "ALDX" { actions::of(symbol) } else { vec![] },
            glut: None,
            days: OnceLock::new(),
            instrument,
        };
        match mover.instrument.symbol.as_str() {
            "AL12" => (mover.beta, mover.noise, mover.start) = (1.0, 0.000_5, 20.0),
            "AL2X" => (mover.beta, mover.noise, mover.start) = (2.0, 0.001, 10.0),
            "MHN" => mover.trades_a_day = Some(6),
            "SME" => mover.start = 26.0,
            // What a holder of PLV got was worth so much.
            "PLT" => mover.start = 3.4,
            "TDP-2025-03" => mover.glut = Some(GLUT),
            "ALP" => mover.start = 0.9,
            "TRC-USD" => mover.start = 0.61,
            "TRC-NZD" => mover.start = 1.02,
            "TRC-CAD" => mover.start = 0.84,
            _ => {}
        }
        if mover.instrument.kind == "pair" {
            (mover.beta, mover.noise, mover.shares_a_minute) = (0.3, 0.004, 60.0);
        }
        mover
    }

    fn walk(&self, seed: u64, calendar: &Calendar) -> Vec<Day> {
        let mut log = self.start.ln();
        let (mut days, mut shares) = (vec![], 1.0);
        let mut to_come = self.actions.iter().peekable();
        let future = self.instrument.kind == "future";
        for session in calendar.sessions() {
            let trades = self.instrument.trades_on(session.date);
            // What a contract is on has a past before the contract.
            if !trades && !future {
                continue;
            }
            let market = bell(&mut dice(hash("market", seed), session.date)) * 0.008 + 0.000_15;
            let mut own = dice(self.own, session.date);
            let mut before = log;
            while let Some(action) = to_come.next_if(|a| a.ex_date <= session.date) {
                before += actions::step(action, before.exp()).ln();
                shares *= actions::shares(action).map_or(1.0, |(new, old)| new as f64 / old as f64);
            }
            // A failing bank does not fail in a day.
            let failing = match self.instrument.last_traded {
                Some(last) if !future && last.0 - session.date.0 < 60 => -0.06,
                _ => 0.0,
            };
            log = before + self.beta * market + self.noise * bell(&mut own) + failing;
            log = log.max(0.05f64.ln());
            if let (Some(last), true) = (self.instrument.last_traded, future) {
                shares = crowd(last.0 - session.date.0);
            }
            if trades {
                let (before, close) = (before + self.carry, log + self.carry);
                let bar = whole(&self.minutes(session, before, close, shares));
                let open_interest = self.instrument.last_traded.filter(|_| future).map(|last| self.open_contracts(session.date, last));
                days.push(Day { date: session.date, bar, before, close, shares, open_interest });
            }
        }
        days
    }

    fn minutes(&self, session: &Session, before: f64, close: f64, shares: f64) -> Vec<Tick> {
        let mut own = dice(self.seed ^ 0x5151, session.date);
        let starts: Vec<Timestamp> =
            session.stretches.iter().flat_map(|s| (s.start.0..s.end.0).step_by(60_000_000).map(Timestamp)).collect();
        let count = starts.len();
        let traded: Option<Vec<usize>> = self.trades_a_day.map(|n| (0..n).map(|_| own.random_range(0..count)).collect());
        // A walk of steps, tied down at both ends.
        let step = self.noise / (count as f64).sqrt();
        let walk: Vec<f64> = (0..=count)
            .scan(0.0, |at, _| {
                let here = *at;
                *at += bell(&mut own) * step;
                Some(here)
            })
            .collect();
        let drift = close - before - walk[count];
        let price = |k: usize| ((before + walk[k] + drift * k as f64 / count as f64).exp() * self.units).round().max(1.0) as i64;
        // A glut comes in the first half of a session and lasts until its end.
        let depth = if self.glut == Some(session.date) { before.exp() * self.units * 1.15 } else { 0.0 };
        let below = |k: usize| (depth * (2.0 * k as f64 / count as f64).min(1.0)) as i64;
        let mut out = Vec::with_capacity(count);
        for (k, open_at) in starts.into_iter().enumerate() {
            let (open, last) = (price(k), price(k + 1));
            let reach = 1 + (open as f64 * step * 0.6) as i64;
            let high = open.max(last) + own.random_range(0..=reach);
            let low = (open.min(last) - own.random_range(0..=reach)).max(1);
            // Busy at both ends of the session.
            let hour = (k as f64 / count as f64 - 0.5).abs() * 2.0;
            let volume = (self.shares_a_minute * shares * (0.4 + 1.6 * hour * hour) * own.random_range(0.2..1.8)) as i64 + 1;
            let (sunk, deeper) = (below(k), below(k + 1));
            let prices = [open - sunk, high - sunk, low - deeper, last - deeper];
            if traded.as_ref().is_none_or(|t| t.contains(&k)) {
                out.push(Tick { open_at, prices, volume });
            }
        }
        out
    }

    /// Contracts open at the end of a session; positions move to the next contract some days after the trading.
    fn open_contracts(&self, date: TradeDate, last: TradeDate) -> i64 {
        let mut own = dice(self.seed ^ 0x0e11, date);
        (self.shares_a_minute * 160.0 * crowd(last.0 - date.0 + 6) * own.random_range(0.98..1.02)) as i64
    }
}

/// How crowded a contract is so many days before its last: the most two months before, and ever less towards both ends.
fn crowd(days: i32) -> f64 {
    1.0 / (1.0 + (f64::from(days - 60) / 25.0).powi(2))
}

fn whole(minutes: &[Tick]) -> Option<Tick> {
    let (first, last) = (minutes.first()?, minutes.last()?);
    let high = minutes.iter().map(|m| m.prices[1]).max()?;
    let low = minutes.iter().map(|m| m.prices[2]).min()?;
    let prices = [first.prices[0], high, low, last.prices[3]];
    Some(Tick { open_at: first.open_at, prices, volume: minutes.iter().map(|m| m.volume).sum() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_makes_the_same_market() {
        let (a, b, other) = (Market::aldermere(1), Market::aldermere(1), Market::aldermere(2));
        let date = "2025-04-09".parse().unwrap();
        assert_eq!(a.minutes("OXB", date), b.minutes("OXB", date));
        assert_ne!(a.minutes("OXB", date), other.minutes("OXB", date));
        assert_eq!(a.minutes("OXB", date).len(), 345);
        assert!(a.minutes("OXB", "2025-03-28".parse().unwrap()).is_empty(), "Kelp Harvest");
    }

    #[test]
    fn the_scenario_is_in_the_prices() {
        let market = Market::aldermere(1);
        let close = |symbol: &str, date: &str| {
            let date = date.parse().unwrap();
            market.days(symbol).unwrap().iter().find(|d| d.date == date).and_then(|d| d.bar).map(|b| b.prices[3])
        };
        let ratio = close("SME", "2025-03-14").unwrap() as f64 / close("SME", "2025-03-17").unwrap() as f64;
        assert!((3.6..4.4).contains(&ratio), "four for one: {ratio}");
        assert!(close("RSB", "2025-03-14").is_some() && close("RSB", "2025-03-17").is_none());
        assert!(close("FNR", "2025-01-17").is_none() && close("FNR", "2025-01-20").is_some());
        let (corran, meridian) = (Market::corran(1), Market::meridian(1));
        let last = |symbol: &str| corran.days(symbol).unwrap().last().unwrap().date.to_string();
        assert_eq!(last("TDP-2025-04"), "2025-04-11");
        let tidal: Vec<&Day> = corran.days("TDP-2025-03").unwrap().iter().filter(|d| d.bar.unwrap().prices[3] < 0).collect();
        assert_eq!(tidal.iter().map(|d| d.date.to_string()).collect::<Vec<_>>(), ["2025-03-06"], "below nought on one day");
        let on = |symbol: &str| corran.days(symbol).unwrap().iter().find(|d| d.date.to_string() == "2025-03-05").unwrap().bar.unwrap();
        let (near, far) = (on("BLY-2025-05").prices[3] as f64, on("BLY-2025-07").prices[3] as f64);
        assert!(far > near && far < near * 1.05, "a little dearer: {near} {far}");
        let night = meridian.minutes("TRC-USD", "2025-04-09".parse().unwrap());
        assert_eq!((night.len(), night[0].open_at.to_string()), (1440, "2025-04-08T21:00:00Z".to_owned()));
        let quiet = market.minutes("MHN", "2025-04-09".parse().unwrap());
        assert!((1..=6).contains(&quiet.len()));
        for symbol in market.symbols() {
            for day in market.days(&symbol).unwrap() {
                assert!(day.date >= FIRST);
                let [open, high, low, close] = day.bar.unwrap().prices;
                assert!(low >= 1 && high >= open.max(close) && low <= open.min(close));
            }
        }
    }
}
