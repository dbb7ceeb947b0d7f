//! Which bars: what `mizuno bars` and `mizuno picture` ask alike.

use clap::Args;

/// Which source and side, which range, and as of when.
#[derive(Args)]
pub struct Whose {
    /// One source's series instead of the golden one; or several, of which golden may be one: harbour,golden.
    #[arg(long)]
    pub source: Option<String>,
    /// trade (also when left out, where there are trades), bid, ask or mid, or several: bid,ask.
    #[arg(long)]
    pub side: Option<String>,
    /// First trade date, or an instant.
    #[arg(long)]
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[arg(long)]
    pub to: Option<String>,
    /// Instead of a range: the last so many sessions.
    #[arg(long, value_name = "SESSIONS")]
    pub last: Option<String>,
    /// Instead of a range: week, month or year.
    #[arg(long, value_name = "PERIOD")]
    pub this: Option<String>,
    /// Only what was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    pub as_of: Option<String>,
}
