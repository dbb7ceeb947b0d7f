//! `mizuno coverage`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{Completeness, CoverageRow};

/// Which part of the table.
#[derive(Args)]
pub struct Coverage {
    /// Interval of the series.
    interval: String,
    /// Only this instrument.
    #[arg(long, short)]
    instrument: Option<String>,
    /// First trade date; sixty sessions ago when left out.
    #[arg(long)]
    from: Option<String>,
    /// Last trade date, included.
    #[arg(long)]
    to: Option<String>,
    /// A column a month instead of a session.
    #[arg(long)]
    months: bool,
}

pub async fn coverage(client: &Client, ask: Coverage) -> Result<Code, Failure> {
    let mut query = vec![("interval", ask.interval.as_str()), ("by", if ask.months { "month" } else { "session" })];
    let options = [("instrument", &ask.instrument), ("from", &ask.from), ("to", &ask.to)];
    query.extend(options.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?))));
    let table: mizuno_api::Coverage = client.get("/coverage", &query).await?;
    if client.json {
        show::json(&table)?;
        return Ok(Code::Fine);
    }
    let (Some(first), Some(last)) = (table.columns.first(), table.columns.last()) else {
        note!("no series of {} bars is kept", ask.interval);
        return Ok(Code::Fine);
    };
    // As many columns as there is room for, the newest.
    let names = table.rows.iter().map(|r| r.series.len()).max().unwrap_or(0).max("series".len());
    let room = show::width().map_or(usize::MAX, |width| width.saturating_sub(names + 24).max(23));
    let skip = table.columns.len().saturating_sub(room);
    let first = table.columns.get(skip).unwrap_or(first);
    let rows = table.rows.iter().map(|row| {
        let sum = total(row);
        vec![row.series.clone(), show::percent(&sum), show::count(sum.missing), marks(row).chars().skip(skip).collect()]
    });
    show::table(
        &show::Columns { headers: &["series", "complete", "missing", &format!("{first} to {last}")], numbers: &[1, 2], least: &[] },
        rows.collect(),
    );
    if skip > 0 {
        note!("{skip} older {}s are not shown for want of room; a wider terminal, --from or --json has them", table.by);
    }
    out!("\n█ complete   ▓ over half   ░ some   · none   e excused   blank: nothing expected");
    Ok(Code::Fine)
}

fn total(row: &CoverageRow) -> Completeness {
    let sum = |cells: &[u64]| cells.iter().sum::<u64>();
    let (expected, held, excused) = (sum(&row.expected), sum(&row.held), sum(&row.excused));
    Completeness { expected, held, excused, missing: expected - held - excused, quiet: sum(&row.quiet) }
}

/// A character a column, told apart by shape as well as by darkness.
fn marks(row: &CoverageRow) -> String {
    // A quiet slot is as good as a held one.
    let quiet = |i: usize| row.quiet.get(i).copied().unwrap_or(0);
    let mark = |i: usize| match (row.expected[i] + quiet(i), row.held[i] + quiet(i), row.excused[i]) {
        (0, _, _) => ' ',
        (expected, held, 0) if held == expected => '█',
        (expected, held, excused) if held + excused == expected => 'e',
        (_, 0, _) => '·',
        (expected, held, _) if held * 2 > expected => '▓',
        _ => '░',
    };
    (0..row.expected.len()).map(mark).collect()
}
