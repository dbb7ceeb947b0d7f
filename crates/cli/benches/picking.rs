//! The newest bars of thousands of instruments, and rows that conditions pick out of many minutes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use common::{
    DAYS, Figures, NOW, Outcome,
    asking::{Service, ask, often, told},
    world::{Size, entered, two_sources},
};
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, Timestamp, clock::ClockFace};
use mizuno_store::blocks;
use std::{path::Path, time::Duration};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const INSTRUMENTS: usize = 5_000;
/// Series that have a year of minutes too: ten million bars.
const MINUTES: usize = 100;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let data = dir.path().join("data");
    let at: Timestamp = NOW.parse()?;
    world(dir.path(), &data, at).await?;
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let service = Service::start(&dir.path().join("config"), &data, &clock)?;
    let base = service.base.clone();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let mut table = Figures::default();

    let latest = format!("{base}/bars?instruments=B*&layout=latest&adjust=splits&columns=instrument,date,close,mean_200,rises&sort=-rises");
    let cold = ask(&http, &latest).await?;
    assert_eq!(cold.lines, INSTRUMENTS + 1, "a row an instrument");
    table.add("newest bars of 5,000, findings cold", told(&cold), "under 10 s", cold.all < Duration::from_secs(10));
    let warm = often(&http, &latest).await?;
    table.add("the same, findings known", told(&warm), "under 1 s", warm.all < Duration::from_secs(1));

    let minutes = async |columns: &str, condition: &str| {
        let url = format!("{base}/bars?instruments=B0*&interval=1m&source=bench&columns=instrument,time,{columns}&where={condition}");
        often(&http, &url).await
    };
    // Every bar is unpacked, and none is given: nothing is written that would take time of its own.
    let all = minutes("open,high,low,close,volume", "range+%3C+0").await?;
    assert_eq!(all.lines, 1, "no bar has a high below its low");
    table.add("ten million minutes, all unpacked", told(&all), "", true);
    for (what, condition, least) in
        [("1 % in a twentieth of the blocks", "volume+%3E+1000000", 5.0), ("1 % scattered", "volume+%3C%3D+40", 2.0)]
    {
        let picked = minutes("close,volume", condition).await?;
        let share = (picked.lines - 1) as f64 / (MINUTES as f64 * 98_280.0) * 100.0;
        let times = all.all.as_secs_f64() / picked.all.as_secs_f64();
        let figure = format!("{:.1?}, {share:.2} % of the bars, {times:.1} times faster", picked.all);
        table.add(what, figure, &format!("{least} times"), times >= least);
    }
    println!("{}", table.0);
    Ok(())
}

/// 5,000 instruments at two sources, ten years of days each, with two splits; of some a year of minutes.
async fn world(dir: &Path, data: &Path, at: Timestamp) -> Outcome {
    let splits = |decade: &Calendar, symbol: &str| {
        let date = |n: usize| decade.sessions()[n * DAYS / 3].date.to_string();
        [1, 2].map(|n| entered(symbol, "split", &[("new", "2"), ("old", "1")], &date(n))).to_vec()
    };
    two_sources(dir, data, at, Size { instruments: INSTRUMENTS, minutes: MINUTES }, &[], with_bursts, splits).await
}

/// The minutes of a series with large volumes in each twentieth block: every fifth bar there.
fn with_bursts(minutes: &Bars, series: usize) -> Bars {
    let mut out = minutes.clone();
    let mut block = 0;
    let mut start = None;
    for (at, bar) in out.rows.iter_mut().enumerate() {
        let span = blocks::span_of(Interval::MINUTE, bar.slot).start;
        block += usize::from(start.is_some_and(|before| before != span));
        start = Some(span);
        if (series * 12 + block).is_multiple_of(20) && at % 5 == 0 {
            *bar = Bar::new(bar.slot, bar.prices(), Some(Decimal { mantissa: 2_000_000 + at as i64, scale: 0 }));
        }
    }
    out
}
