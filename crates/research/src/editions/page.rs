//! What an edition is, for people: one page without references to anything outside the edition.

use super::{contents::Contents, coverage::share_of, second, table::Table};
use mizuno_config::{Edition, edition::ABOUT};
use mizuno_core::{Cause, Completeness};
use mizuno_store::editions::FileRow;
use std::fmt::Write;

/// Series of which the months are drawn, and rows of a table that are shown; the files have all of them.
const SHOWN: usize = 200;

const LOOK: &str = "body{font:14px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:72rem;padding:0 1rem;color:#1c2430;background:#fff}\
h1{font-size:1.5rem;margin:0}h2{font-size:1.1rem;margin:2rem 0 .5rem}p{margin:.3rem 0}table{border-collapse:collapse;font-size:13px}\
td,th{padding:.15rem .7rem .15rem 0;text-align:left;vertical-align:top;border-bottom:1px solid #e4e8ee}th{font-weight:600}\
td.n{text-align:right;font-variant-numeric:tabular-nums}.wide{overflow-x:auto}.mark{border-left:4px solid #b3541e;padding-left:.7rem}\
table.months{width:100%;table-layout:fixed}table.months td,table.months th{padding:0;border:0}table.months th{width:10rem;font-weight:400;\
white-space:nowrap;overflow:hidden;text-overflow:ellipsis}table.months td{height:16px;border-right:1px solid #fff}\
table.months tr.years th{width:auto;border-left:1px solid #9aa3ab;padding-left:2px;font-size:11px}table.months tr.years th:first-child{width:10rem;border:0}.a{background:#2f6f8f}.b{background:#86b3c6}.c{background:#e3b04b}.d{background:#b3541e}\
.none{background:#eef1f5}.key span{display:inline-block;width:10px;height:10px;margin:0 .3rem 0 1rem}code{font-size:12px}\
@media(prefers-color-scheme:dark){body{background:#14181f;color:#d7dde6}td,th{border-color:#2a313c}table.months td{border-color:#14181f}.none{background:#222934}a{color:#8fc3da}}";

/// The page.
pub(super) fn text(edition: &Edition, contents: &Contents, files: &[FileRow]) -> String {
    let mut out = String::new();
    let title = escaped(&edition.title);
    let c = &contents.completeness;
    let _ = write!(
        out,
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}, as of {}</title><style>{LOOK}</style></head><body>\n<h1>{title}</h1>\n",
        second(contents.instant)
    );
    let _ = writeln!(
        out,
        "<p>What was known on {}. {} files, {} instruments; {:.2} percent of the {} bars that are expected.</p>",
        second(contents.instant),
        files.iter().filter(|f| !f.path.starts_with(ABOUT)).count(),
        contents.instruments.len(),
        share_of(c),
        c.expected + c.quiet
    );
    if !contents.does_not_hold.is_empty() {
        let _ = writeln!(
            out,
            "<p class=\"mark\"><b>Made although this does not hold:</b> {}.</p>",
            escaped(&contents.does_not_hold.join("; "))
        );
    }
    out.push_str(
        "<p><code>sha256sum -c SHA256SUMS</code> in this folder says whether every file is as it was made. <a href=\"datapackage.json\">\
         datapackage.json</a> has the columns and the question of each file.</p>\n",
    );
    changes(&mut out, contents, files);
    months(&mut out, contents);
    for (name, heading) in [
        ("gaps", "Bars that are missing"),
        ("findings", "What the checks found"),
        ("excuses", "What was accepted"),
        ("actions", "Corporate actions and their factors"),
        ("rolls", "Rolls of continuous series"),
        ("without", "Asked for and without bars"),
    ] {
        if let Some((_, found)) = contents.tables.iter().find(|(table, _)| *table == name) {
            let _ = writeln!(out, "<h2>{heading}</h2>");
            // What is not due yet is missing in every edition; the file has it too.
            let late = |row: &&Vec<String>| name != "gaps" || !row.iter().any(|cell| cell == Cause::NotYetDue.word());
            table(&mut out, name, found, late);
        }
    }
    out.push_str("<h2>Files</h2>\n<table><tr><th>file</th><th>rows</th><th>bytes</th></tr>\n");
    for file in files.iter().take(SHOWN * 5) {
        let path = escaped(&file.path);
        let rows = if file.rows > 0 { file.rows.to_string() } else { String::new() };
        let _ =
            writeln!(out, "<tr><td><a href=\"{path}\">{path}</a></td><td class=\"n\">{rows}</td><td class=\"n\">{}</td></tr>", file.bytes);
    }
    out.push_str("</table>\n");
    if files.len() > SHOWN * 5 {
        let _ = writeln!(out, "<p>And {} more; SHA256SUMS lists all of them.</p>", files.len() - SHOWN * 5);
    }
    out.push_str("</body></html>\n");
    out
}

fn changes(out: &mut String, contents: &Contents, files: &[FileRow]) {
    let Some(since) = contents.since else { return };
    let _ = writeln!(out, "<h2>Since the edition before, of {}</h2>", second(since));
    let named = |out: &mut String, what: &str, all: &[String]| {
        if !all.is_empty() {
            let more = if all.len() > SHOWN { format!(" and {} more", all.len() - SHOWN) } else { String::new() };
            let _ = writeln!(out, "<p>{what}: {}{more}.</p>", escaped(&all[..all.len().min(SHOWN)].join(", ")));
        }
    };
    named(out, "New instruments", &contents.joined);
    named(out, "Instruments that are gone", &contents.left);
    let prefix = format!("{ABOUT}/changes-");
    for file in files.iter().filter(|f| f.path.starts_with(&prefix)) {
        let (path, name) = (escaped(&file.path), escaped(file.path[prefix.len()..].rsplit_once('.').map_or("", |(name, _)| name)));
        let rows = if file.rows == 1 { "row".to_owned() } else { format!("{} rows", file.rows) };
        let told = if file.rows == 0 {
            "nothing has changed".to_owned()
        } else {
            format!("<a href=\"{path}\">{rows}</a> new, changed or gone, each with its cause")
        };
        let _ = writeln!(out, "<p>{name}: {told}.</p>");
    }
}

/// The months of each series, the least complete series first.
fn months(out: &mut String, contents: &Contents) {
    let whole = |months: &[(String, Completeness)]| months.iter().map(|(_, c)| *c).sum::<Completeness>();
    let mut all: Vec<_> = contents.coverage.iter().filter(|(_, months)| !months.is_empty()).collect();
    all.sort_by(|a, b| share_of(&whole(&a.1)).total_cmp(&share_of(&whole(&b.1))).then(a.0.cmp(&b.0)));
    let first = all.iter().filter_map(|(_, months)| months.first()).map(|(month, _)| month.clone()).min();
    let last = all.iter().filter_map(|(_, months)| months.last()).map(|(month, _)| month.clone()).max();
    let (Some(first), Some(last)) = (first, last) else { return };
    let number = |month: &str| {
        let (year, month) = month.split_once('-').unwrap_or_default();
        year.parse::<i64>().unwrap_or(0) * 12 + month.parse::<i64>().unwrap_or(1) - 1
    };
    let _ = writeln!(
        out,
        "<h2>Coverage by month, {first} to {last}</h2>\n<p class=\"key\"><span class=\"a\"></span>complete<span class=\"b\"></span>99 percent and \
         more<span class=\"c\"></span>90 percent and more<span class=\"d\"></span>less<span class=\"none\"></span>none expected</p>\n\
         <div class=\"wide\"><table class=\"months\">"
    );
    out.push_str("<tr class=\"years\"><th></th>");
    let mut at = number(&first);
    while at <= number(&last) {
        let (year, months) = (at.div_euclid(12), (12 - at.rem_euclid(12)).min(number(&last) + 1 - at));
        // A year of which little is there has no room for its name.
        let name = if months > 3 { year.to_string() } else { String::new() };
        let _ = write!(out, "<th colspan=\"{months}\">{name}</th>");
        at += months;
    }
    out.push_str("</tr>\n");
    for (series, months) in all.iter().take(SHOWN) {
        let _ = write!(out, "<tr><th>{}</th>", escaped(series));
        let mut cells = months.iter().peekable();
        for at in number(&first)..=number(&last) {
            match cells.next_if(|(month, _)| number(month) == at) {
                None => out.push_str("<td class=\"none\"></td>"),
                Some((month, c)) => {
                    let share = share_of(c);
                    let look = match () {
                        () if c.missing == 0 => "a",
                        () if share >= 99.0 => "b",
                        () if share >= 90.0 => "c",
                        () => "d",
                    };
                    let _ = write!(out, "<td class=\"{look}\" title=\"{month}: {share:.2} percent, {} missing\"></td>", c.missing);
                }
            }
        }
        out.push_str("</tr>\n");
    }
    out.push_str("</table></div>\n");
    if all.len() > SHOWN {
        let _ = writeln!(out, "<p>The {SHOWN} least complete of {} series; <a href=\"{ABOUT}/coverage.csv\">all</a>.</p>", all.len());
    }
}

fn table(out: &mut String, name: &str, table: &Table, shown: impl Fn(&&Vec<String>) -> bool) {
    out.push_str("<div class=\"wide\"><table><tr>");
    for heading in table.headings() {
        let _ = write!(out, "<th>{}</th>", heading.replace('_', " "));
    }
    out.push_str("</tr>\n");
    let rows: Vec<&Vec<String>> = table.all().iter().filter(shown).collect();
    for row in rows.iter().take(SHOWN) {
        let cells: String = row.iter().map(|cell| format!("<td>{}</td>", escaped(cell))).collect();
        let _ = writeln!(out, "<tr>{cells}</tr>");
    }
    out.push_str("</table></div>\n");
    if rows.len() < table.rows() || rows.len() > SHOWN {
        let _ = writeln!(out, "<p>{} of {}; <a href=\"{ABOUT}/{name}.csv\">all of them</a>.</p>", rows.len().min(SHOWN), table.rows());
    }
}

/// A text that may say anything, as HTML.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_source_says_is_no_page_of_its_own() {
        let row = vec!["KBF/1d/harbour".to_owned(), "<script>alert(\"x\")</script> & more".to_owned()];
        let mut out = String::new();
        table(&mut out, "without", &Table::of(&["instrument", "why"], [row]), |_| true);
        assert!(out.contains("&lt;script&gt;alert(&quot;x&quot;)&lt;/script&gt; &amp; more") && !out.contains("<script"), "{out}");
        assert!(!out.contains("all of them"), "all rows are shown");
    }

    #[test]
    fn of_many_rows_the_first_are_shown_and_the_file_has_all() {
        let rows = (0..SHOWN + 5).map(|n| vec![format!("S{n}"), "why".to_owned()]);
        let mut out = String::new();
        table(&mut out, "without", &Table::of(&["instrument", "why"], rows), |_| true);
        assert!(out.contains(&format!("{SHOWN} of {}", SHOWN + 5)) && out.contains("about/without.csv"), "the way to the others is told");
        assert!(!out.contains(&format!("S{SHOWN}<")));
    }
}
