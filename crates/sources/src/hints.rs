//! What a person who tries a profile may have got wrong, said from what the answer looks like.

use mizuno_config::profile::Columns;
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, time::SECOND};

/// Hints about bars that do not look as the profile says; empty when they do.
#[must_use]
pub fn hints(bars: &Bars, calendar: &Calendar, interval: Interval) -> Vec<String> {
    let mut out = vec![];
    out.extend(columns(bars));
    out.extend(floats(bars));
    if interval.is_intraday() {
        out.extend(shift(bars, calendar, interval));
    }
    out
}

/// Columns that the profile names and that no row has a number in: a key of JSON that is spelled otherwise is silent.
#[must_use]
pub fn silent(bars: &Bars, columns: &Columns) -> Vec<String> {
    let silent = |key: &str, column: &Option<String>, of: fn(&Bar) -> Option<Decimal>| {
        let column = column.as_ref().filter(|_| !bars.rows.is_empty() && bars.rows.iter().all(|bar| of(bar).is_none()))?;
        Some(format!(
            "no row has a number in `{column}`, which the profile names for `{key}`: look at its spelling, and at whether it is told later"
        ))
    };
    let hints = [silent("volume", &columns.volume, Bar::volume), silent("open_interest", &columns.open_interest, Bar::open_interest)];
    hints.into_iter().flatten().collect()
}

/// Highs below lows in most rows are swapped columns; a close or open outside is another order.
fn columns(bars: &Bars) -> Option<String> {
    let rows = &bars.rows;
    let share = |wrong: fn(&Bar) -> bool| rows.iter().filter(|b| wrong(b)).count() * 2 > rows.len();
    if rows.len() < 3 {
        return None;
    }
    if share(|b| b.high() < b.low()) {
        return Some("in most rows the high is below the low: the columns `high` and `low` look swapped".to_owned());
    }
    // Which of the four columns is the highest, which the lowest, in most rows?
    let extreme = |highest: bool| {
        let holds = |place: usize| {
            let is = |b: &Bar| {
                let all = b.prices();
                let best: Option<Decimal> = if highest { all.into_iter().max() } else { all.into_iter().min() };
                Some(all[place]) == best
            };
            rows.iter().filter(|b| is(b)).count()
        };
        (0..4).max_by_key(|place| (holds(*place), if highest { *place == 1 } else { *place == 2 }))
    };
    let names = ["open", "high", "low", "close"];
    match (extreme(true), extreme(false)) {
        (Some(1), Some(2)) => None,
        (Some(high), Some(low)) => Some(format!(
            "in most rows the highest price stands where the profile reads `{}` and the lowest where it reads `{}`: look at the order of the columns",
            names[high], names[low]
        )),
        _ => None,
    }
}

/// Prices printed as binary floats, and the digits that most of them would have without that.
fn floats(bars: &Bars) -> Option<String> {
    /// A price that people write has fewer significant digits than this.
    const LONG: u8 = 12;
    let prices = || bars.rows.iter().flat_map(Bar::prices);
    let long: Vec<Decimal> = prices().filter(|p| p.whole_digits() + p.scale >= LONG && p.scale > 6).collect();
    if long.is_empty() || long.len() * 4 < bars.rows.len() {
        return None;
    }
    // The fewest digits at which every long price is as good as what was printed.
    let near = |p: &Decimal, scale: u8| {
        let rounded = Decimal::parse_rounded(p.to_string().as_bytes(), scale).map_or(f64::NAN, Decimal::to_f64);
        (rounded / p.to_f64() - 1.0).abs() < 2e-7
    };
    let scale = (0..=6).find(|scale| prices().all(|p| near(&p, *scale)));
    let example = long[0];
    Some(match scale {
        Some(scale) => format!(
            "prices look like binary floats, as in {example}: round_decimals = {scale} in the answer would print them as the market does"
        ),
        None => format!(
            "prices look like binary floats, as in {example}; round_decimals in the answer says to how many digits they are to be rounded"
        ),
    })
}

/// Stamps outside sessions, and the shift that would bring most of them inside.
fn shift(bars: &Bars, calendar: &Calendar, interval: Interval) -> Vec<String> {
    let count = |by: i64| {
        let inside = |b: &&mizuno_core::Bar| calendar.session_of(interval, mizuno_core::Slot(b.slot.0 + by)).is_some();
        bars.rows.iter().filter(inside).count()
    };
    let (all, now) = (bars.rows.len(), count(0));
    if all == 0 {
        return vec![];
    }
    let step = interval.step();
    let last_at_close = bars.rows.iter().any(|b| {
        calendar.session_of(interval, b.slot).is_none() && calendar.session_of(interval, mizuno_core::Slot(b.slot.0 - step)).is_some()
    });
    if now < all && last_at_close && count(-step) == all {
        return vec!["every stamp falls into a session when read as the close of its bar: stamped_at = \"close\" fits better".to_owned()];
    }
    if now * 10 >= all * 9 {
        return vec![];
    }
    let outside = all - now;
    let mut out = vec![format!("{outside} of {all} stamps fall outside the venue's sessions")];
    let quarter = 900 * SECOND;
    // Of two that fit alike, the earlier one: bars of tomorrow are nobody's.
    let best = (-56..=56).map(|n| n * quarter).max_by_key(|by| (count(*by), std::cmp::Reverse(by.abs()), *by < 0));
    if let Some(by) = best.filter(|by| *by != 0 && count(*by) * 10 >= all * 9) {
        let hours = by as f64 / (3600 * SECOND) as f64;
        out.push(format!("moved by {hours:+} hours nearly all would fall inside: look at `zone`, or at whether stamps are UTC"));
    }
    out
}
