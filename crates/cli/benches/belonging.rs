//! Who belonged when, over ten years: a universe masked, a rule reviewed over thousands of instruments, and continuous series of futures.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use common::{
    Figures, NOW, Outcome,
    asking::{Service, Timed, ask, often, told},
    world::{Size, two_sources},
};
use mizuno_core::{Timestamp, TradeDate, clock::ClockFace};
use std::{fmt::Write, time::Duration};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const INSTRUMENTS: usize = 5_000;
const MEMBERS: usize = 500;
const CHANGES: usize = 300;
const PRODUCTS: usize = 50;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let data = dir.path().join("data");
    let at: Timestamp = NOW.parse()?;
    let rule = "[rule]\nvenue = \"BNCH\"\nsince = \"2015-06-01\"\nreview = \"monthly\"\nkinds = [\"share\"]\nprice_at_least = \"20\"\n\
                turnover_at_least = \"10000000\"\nturnover_sessions = 60\nlisted_sessions = 60\n";
    let chains: Vec<(String, String)> = (0..PRODUCTS)
        .map(|p| {
            (
                format!("chains/c{p:02}.toml"),
                format!("venue = \"BNCH\"\nproduct = \"F{p:02}\"\nroll = {{ by = \"volume\", sessions = 2 }}\n"),
            )
        })
        .collect();
    let (universe, futures) = (universe(), futures()?);
    let mut files =
        vec![("universes/index.toml", universe.as_str()), ("universes/traded.toml", rule), ("instruments/futures.csv", &futures)];
    files.extend(chains.iter().map(|(path, text)| (path.as_str(), text.as_str())));
    two_sources(dir.path(), &data, at, Size { instruments: INSTRUMENTS, minutes: 1 }, &files, |year, _| year.clone(), |_, _| vec![])
        .await?;
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let service = Service::start(&dir.path().join("config"), &data, &clock)?;
    let base = service.base.clone();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let mut table = Figures::default();
    let mut add = |what: &str, asked: &Timed, most: u64| {
        let most = Duration::from_millis(most);
        table.add(what, told(asked), &format!("under {most:.1?}"), asked.all < most);
    };

    // What the checks find is known first, as on a desk that has looked this morning.
    ask(&http, &format!("{base}/bars?instruments=*&layout=latest&columns=instrument,close")).await?;
    let masked = often(&http, &format!("{base}/bars?universe=index&layout=wide&columns=date,close")).await?;
    assert!(masked.lines > 2_400, "ten years of rows");
    add("500 members, 300 changes, masked closes", &masked, 600);
    let first = ask(&http, &format!("{base}/universes/traded")).await?;
    add("a rule over 5,000, monthly, the first time", &first, 3_000);
    let again = often(&http, &format!("{base}/universes/traded")).await?;
    add("the same again", &again, 100);
    let names: Vec<String> = (0..PRODUCTS).map(|p| format!("c{p:02}")).collect();
    let joined = format!("{base}/bars?instruments={}&layout=wide&rolls=ratio&columns=date,close", names.join(","));
    let rolled = ask(&http, &joined).await?;
    add("50 continuous series, rolled and joined", &rolled, 500);
    let again = often(&http, &joined).await?;
    add("the same again", &again, 500);
    println!("{}", table.0);
    Ok(())
}

/// Members that change one at a time, one leaving and another joining.
fn universe() -> String {
    let start: TradeDate = TradeDate(16_440);
    let mut out = String::new();
    for n in 0..MEMBERS + CHANGES {
        let _ = write!(out, "[[member]]\nsymbol = \"B{n:03}\"\n");
        if n >= MEMBERS {
            let _ = writeln!(out, "from = \"{}\"", start.plus(((n - MEMBERS) * 3600 / CHANGES) as i32));
        }
        if n < CHANGES {
            let _ = writeln!(out, "to = \"{}\"", start.plus((n * 3600 / CHANGES) as i32));
        }
    }
    out
}

/// Four contracts a year of each product, each with a year of bars.
fn futures() -> Result<String, Box<dyn std::error::Error>> {
    let mut out = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former,expiry,product\n".to_owned();
    for product in 0..PRODUCTS {
        for (year, month) in (2015..2026).flat_map(|year| [3, 6, 9, 12].map(|month| (year, month))) {
            let last: TradeDate = format!("{year}-{month:02}-15").parse()?;
            let listed = last.plus(-365);
            writeln!(out, "F{product:02}-{year}-{month:02},Future,future,BNCH,USD,0.01,1,{listed},{last},,{last},F{product:02}")?;
        }
    }
    Ok(out)
}
