//! `mizuno bars --explain`: what an answer would be, and the same question in other forms.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use mizuno_api::{Explanation, SeriesTold, words::escaped};
use reqwest::Response;
use std::collections::BTreeMap;

/// Series shown one by one; of more, the first.
const SHOWN: usize = 40;

pub async fn explain(client: &Client, response: Response) -> Result<Code, Failure> {
    let told: Explanation = response.json().await.map_err(Failure::new)?;
    if client.json {
        show::json(&told)?;
        return Ok(Code::Fine);
    }
    let many = told.series.len();
    show::heading(&format!("{many} {}, as of {}", if many == 1 { "series" } else { "series together" }, told.as_of));
    if let Some(c) = &told.completeness {
        out!("{} bars, {} complete, {} missing", show::count(c.held), show::percent(c), show::count(c.missing));
    }
    out!("{} blocks of {} would be read", show::count(told.blocks), show::bytes(told.bytes));
    out!("");
    show::table(
        &show::Columns {
            headers: &["series", "from", "to", "bars", "complete", "missing", "sources"],
            numbers: &[3, 4, 5],
            least: &[2, 1],
        },
        told.series.iter().take(SHOWN).map(row).collect(),
    );
    if many > SHOWN {
        note!("{} more series; --json has them all", many - SHOWN);
    }
    // What many series have in common is said once.
    let mut said: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for series in &told.series {
        let adjusted = series.sources.iter().filter(|s| s.basis.starts_with("adjusted")).map(|s| format!("{} is {}", s.source, s.basis));
        let left_out = series.left_out.iter().map(|l| format!("{} does not take part: {}", l.source, l.why));
        adjusted.chain(left_out).for_each(|sentence| said.entry(sentence).or_default().push(&series.series));
    }
    for (sentence, series) in said {
        let whose = if series.len() > 3 { format!("{} series", series.len()) } else { series.join(", ") };
        out!("{whose}: {}", escaped(&sentence));
    }
    for series in told.series.iter().take(SHOWN) {
        for action in &series.actions {
            let what = match (&action.price_factor, &action.why) {
                (Some(factor), _) => format!("prices before it × {factor}"),
                (None, Some(why)) => format!("not applied: {}", escaped(why)),
                (None, None) if action.effect == "after-anchor" => "after the anchor".to_owned(),
                (None, None) => "not asked for".to_owned(),
            };
            out!("{}: {} on {}: {what}", series.series, escaped(&action.terms), action.ex_date);
        }
    }
    if !told.without.is_empty() {
        out!("");
        out!("found, but without such bars:");
        told.without.iter().for_each(|w| out!("  {}: {}", w.instrument, escaped(&w.why)));
    }
    out!("");
    let names: Vec<String> = told.columns.iter().take(SHOWN).map(|c| c.name.clone()).collect();
    let more = if told.columns.len() > SHOWN { format!(" and {} more", told.columns.len() - SHOWN) } else { String::new() };
    out!("columns  {}{more}", names.join(", "));
    out!("stamps   {}", told.stamps);
    out!("prices   {}; {}", told.adjustment, told.units);
    let c = &told.configuration;
    let earlier = if c.stands_for_earlier { "; no older one is kept" } else { "" };
    out!("settings configuration {}, accepted {}{earlier}", c.number, c.accepted_at);
    out!("asked    {}", told.question);
    out!("resolved {}", told.resolved);
    out!("");
    show::heading("The same question in other forms");
    out!("  {}", escaped(&told.forms.command));
    out!("  {}", escaped(&told.forms.address));
    let here = |text: &str| text.replace("{service}", client.base());
    out!("in a spreadsheet, as a web address to import:");
    out!("  {}", escaped(&here(&told.forms.spreadsheet)));
    out!("in Python:");
    here(&told.forms.data_frame).lines().for_each(|line| out!("  {}", escaped(line)));
    out!("in a file, for --question:");
    told.forms.toml.lines().for_each(|line| out!("  {}", escaped(line)));
    Ok(Code::Fine)
}

fn row(s: &SeriesTold) -> Vec<String> {
    let (complete, missing) =
        s.completeness.as_ref().map_or(("-".to_owned(), "-".to_owned()), |c| (show::percent(c), show::count(c.missing)));
    let sources: Vec<&str> = s.sources.iter().map(|s| s.source.as_str()).collect();
    vec![s.series.clone(), show::or_dash(&s.from), show::or_dash(&s.to), show::count(s.bars), complete, missing, sources.join(", ")]
}
