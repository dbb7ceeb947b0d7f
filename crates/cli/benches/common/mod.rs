//! What the benches share: bars to store, a configuration to serve them under, and a table of figures.
#![allow(dead_code, reason = "each bench uses a part of it")]

pub mod asking;
pub mod world;

use mizuno_config::Config;
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, Slot, TradeDate};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::{fs, path::Path, time::Duration};

pub type Outcome = Result<(), Box<dyn std::error::Error>>;

/// The first trade date of the minutes.
pub const FIRST: &str = "2024-01-02";
/// When the service looks at them.
pub const NOW: &str = "2025-02-01T00:00:00Z";
/// Every bar in this many has no neighbour: one minute is left out, to be found as a gap.
pub const HOLE_EVERY: usize = 30_000;

/// Daily bars of a series: ten years.
pub const DAYS: usize = 2_520;

/// A line for each figure.
#[derive(Default)]
pub struct Figures(pub String);

impl Figures {
    pub fn add(&mut self, what: &str, figure: String, wanted: &str, met: bool) {
        let met = if met { "met" } else { "MISSED" };
        self.0 += &format!("{what:<38} {figure:<58} {wanted:<14} {met}\n");
    }
}

pub fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// One year of a random walk in cents, 390 bars a session, with a few minutes left out.
pub fn year(calendar: &Calendar, seed: u64) -> Bars {
    let mut dice = Pcg64Mcg::seed_from_u64(seed);
    let mut price: i64 = dice.random_range(500..20_000);
    let mut rows = Vec::with_capacity(98_280);
    let mut since_hole = 0;
    for session in &calendar.sessions()[..252] {
        for span in session.slots(Interval::MINUTE).iter() {
            for slot in (span.start.0..span.end.0).step_by(60_000_000) {
                since_hole += 1;
                if since_hole > HOLE_EVERY {
                    since_hole = 0;
                    continue;
                }
                let open = price;
                price = (price + dice.random_range(-6..=6)).max(100);
                let (high, low) = (open.max(price) + dice.random_range(0..5), open.min(price) - dice.random_range(0..5));
                let volume = dice.random_range(1..4_000);
                let prices = [open, high, low, price].map(|mantissa| Decimal { mantissa, scale: 2 });
                rows.push(Bar::new(Slot(slot), prices, Some(Decimal { mantissa: volume, scale: 0 })));
            }
        }
    }
    Bars { rows }
}

/// A configuration with one venue, one source that is never asked, and so many instruments; `more` is written besides.
pub fn configure(dir: &Path, instruments: usize, more: &[(&str, &str)]) -> Result<Config, Box<dyn std::error::Error>> {
    let write = |file: &str, text: &str| {
        let path = dir.join("config").join(file);
        fs::create_dir_all(path.parent().unwrap_or(dir))?;
        fs::write(path, text)
    };
    write("mizuno.toml", "desk = \"bench\"\nlisten = \"127.0.0.1:0\"\n")?;
    write(
        "venues/bnch.toml",
        "code = \"BNCH\"\nname = \"Bench\"\nzone = \"America/New_York\"\n[[week]]\nfrom = \"2024-01-01\"\ndays = [\"Mon\", \"Tue\", \"Wed\", \"Thu\", \"Fri\"]\nhours = [\"09:30-16:00\"]\n",
    )?;
    let last: TradeDate = Calendar::new(
        &mizuno_config::venue::parse(Path::new("bnch"), &fs::read_to_string(dir.join("config/venues/bnch.toml"))?)
            .map_err(|p| format!("{p:?}"))?,
        FIRST.parse()?.."2025-01-01".parse()?,
    )
    .sessions()[251]
        .date;
    let mut list = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former\n".to_owned();
    for i in 0..instruments {
        list += &format!("B{i:03},Bench {i},share,BNCH,USD,0.01,,,{last},\n");
    }
    write("instruments/bnch.csv", &list)?;
    let harbour = include_str!("../../../../demo/config/sources/harbour.toml");
    write(
        "sources/bench.toml",
        &harbour.replace("name = \"harbour\"", "name = \"bench\"").replace("ALDX", "BNCH").replace("depth_days = 30\n", ""),
    )?;
    write(
        "collectors/bench.toml",
        &format!("name = \"bench\"\nsource = \"bench\"\nvenue = \"BNCH\"\ninterval = \"1m\"\nsince = \"{FIRST}\"\n"),
    )?;
    for (file, text) in more {
        write(file, text)?;
    }
    Ok(Config::load(&dir.join("config"))?)
}

/// A bar for each session, taken from the minutes in turn.
pub fn daily(calendar: &Calendar, minutes: &Bars) -> Bars {
    let sessions = &calendar.sessions()[..DAYS];
    sessions
        .iter()
        .enumerate()
        .map(|(i, s)| {
            let bar = &minutes.rows[i * 30];
            Bar::new(Slot::on(s.date), bar.prices(), bar.volume())
        })
        .collect()
}
