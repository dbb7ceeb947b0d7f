//! `mizuno picture`.

use crate::{
    client::Client,
    commands::{bars::to_file, whose::Whose},
    exit::{Code, Failure},
};
use clap::Args;
use reqwest::Method;
use std::path::PathBuf;

/// Which bars, and how they are drawn.
#[derive(Args)]
pub struct PictureOf {
    /// Instruments, or one series as in KBF/1m/harbour: one is drawn as candles, several as lines that are 100 where all begin.
    #[arg(value_name = "INSTRUMENT|SERIES", required = true)]
    which: Vec<String>,
    /// Write to this file; its ending says the format, png or svg.
    #[arg(long, short, value_name = "FILE")]
    output: PathBuf,
    /// The finest interval that is drawn; 1d when left out. Where bars have no room they are drawn coarser.
    #[arg(long)]
    interval: Option<String>,
    #[command(flatten)]
    whose: Whose,
    /// Prices adjusted for: none (as traded; also when left out), splits, or all.
    #[arg(long, value_name = "ACTIONS")]
    adjust: Option<String>,
    /// The clock of stamps; that of the venue when left out.
    #[arg(long)]
    zone: Option<String>,
    /// Rows a series has at most; by the width when left out.
    #[arg(long, value_name = "ROWS")]
    fit: Option<String>,
    /// Pixels, 320 to 4000.
    #[arg(long, default_value = "1280")]
    width: String,
    /// Pixels, 240 to 3000.
    #[arg(long, default_value = "800")]
    height: String,
    /// Light on dark.
    #[arg(long)]
    dark: bool,
}

pub async fn picture(client: &Client, ask: PictureOf) -> Result<Code, Failure> {
    let format = match ask.output.extension().and_then(|e| e.to_str()) {
        Some("png") => "png",
        Some("svg") => "svg",
        _ => return Err(Failure::usage(format!("-o: a picture is a .png or .svg file, and {} is neither", ask.output.display()))),
    };
    let series = ask.which.len() == 1 && ask.which[0].contains('/');
    let which = ask.which.join(",");
    let dark = ask.dark.to_string();
    let given = [
        ("interval", &ask.interval),
        ("source", &ask.whose.source),
        ("side", &ask.whose.side),
        ("from", &ask.whose.from),
        ("to", &ask.whose.to),
        ("last", &ask.whose.last),
        ("this", &ask.whose.this),
        ("as_of", &ask.whose.as_of),
        ("adjust", &ask.adjust),
        ("zone", &ask.zone),
        ("fit", &ask.fit),
    ];
    let mut pairs = vec![(if series { "series" } else { "instruments" }, which.as_str())];
    pairs.extend([("format", format), ("width", ask.width.as_str()), ("height", ask.height.as_str()), ("dark", dark.as_str())]);
    pairs.extend(given.iter().filter_map(|(key, value)| Some((*key, value.as_deref()?))));
    let response = client.send::<()>(Method::GET, "/picture", &pairs, None).await?;
    let bytes = to_file(response, &ask.output).await?;
    note!("wrote {} ({})", ask.output.display(), crate::show::bytes(bytes));
    Ok(Code::Fine)
}
