//! From keys to a question. Everything that is wrong is told at once, each with what to write instead.

use super::{
    Against, Column, DELISTING, File, Format, Layout, Missing, Period, Question, Range, Round, SEPARATORS, Shape,
    deriving::{adjust, of_actions, pieces},
    given::{Given, Value},
    picking::{Picking, picking},
    reader::Reader,
    zone::{Clock, Stamp},
};
use mizuno_config::GOLDEN;
use mizuno_core::{Interval, SeriesKey, Side, Timestamp, resample::Length};
use mizuno_desk::moments::instant;
use std::collections::BTreeMap;

/// The keys there are, with what each takes; in the order of the canonical text.
pub const KEYS: [(&str, &str); 49] = [
    ("instruments", "symbols, present or former, and patterns as AL*; the answer keeps their order"),
    ("search", "words that instruments are found by, beside those named"),
    ("universe", "a universe, whose members are asked for, beside those named"),
    ("members", "of a universe: masked (bars of its days as a member only) or whole (whole histories of all that belonged in the range)"),
    ("interval", "the interval: as collected, or coarser, as 5m, 1h, 1d, 1w, 1mo, 1q, 1y; 1d when left out"),
    ("side", "trade, bid, ask or mid, or several; trades when left out, where there are any"),
    ("source", "one source, or several, of which golden may be one; golden when left out"),
    ("from", "first trade date or instant"),
    ("to", "last trade date, included, or an instant, not included"),
    ("last", "instead: the last so many sessions"),
    ("this", "instead: week, month or year"),
    ("as_of", "only what was known at this instant"),
    ("since", "instead of the bars: what differs from the answer as of this instant"),
    ("made_from", "the interval that coarser bars are made of; the coarsest collected one that divides them when left out"),
    ("fit", "bars so much coarser that no series has more than so many rows, as for the width of a picture"),
    ("align", "where coarser bars of a session begin: session (its open, and after each break), or a zone, on whose clock they do"),
    ("label", "the session that weeks and longer are labelled by: first or last"),
    ("incomplete", "coarser bars of which something is missing: kept or dropped"),
    ("adjust", "prices adjusted for none (as traded), splits (and bonus issues), or all (dividends, rights and spin-offs too)"),
    ("rolls", "continuous series of futures at their rolls: kept (as traded), difference or ratio (of the two contracts' closes)"),
    ("anchor", "where adjusted or joined prices are as traded: newest, oldest, or with adjust a trade date after which no action counts"),
    (
        "delisting",
        "a series whose instrument was delisted ends with its last bar: left-out, or with the price of its delisting as one bar more: last-price",
    ),
    ("layout", "long (a row a bar), wide (a row a moment) or latest (a row an instrument: its newest bar)"),
    ("join", "of a wide file: outer (moments that any instrument has) or inner (that all have)"),
    ("against", "with layout=wide: each series beside the first also as its difference from it, or its ratio to it"),
    ("columns", "columns in order"),
    ("names", "other names for columns"),
    ("across_gaps", "numbers held against the bar before, where bars are missing between the two: empty or bridged"),
    ("where", "only rows of which all this holds, as close > mean_200"),
    ("keep_first", "of each instrument only the first so many of these rows"),
    ("keep_last", "of each instrument only the last so many of these rows"),
    ("sort", "with layout=latest: a number that the rows are sorted by, smallest first; with a minus before it largest first"),
    ("limit", "with layout=latest: only the first so many rows"),
    ("missing", "absent, rows (a row for every expected slot) or carried (the last close, marked)"),
    ("zone", "the clock of stamps: UTC, Pacific/Auckland, +02:00, or +02:00/America/New_York"),
    ("stamp", "rfc3339, wall, seconds, millis, micros, or a pattern of strftime"),
    ("stamp_at", "open or end of an intraday bar"),
    ("hours", "only bars that open between two times at the venue, as 10:00-12:00"),
    ("first_minutes", "only the first minutes of each session"),
    ("last_minutes", "only the last minutes of each session"),
    ("round", "prices to so many decimals, or to the tick"),
    ("format", "csv, ndjson, json, parquet or xlsx"),
    ("separator", "what parts the cells of a CSV file: comma, semicolon, tab or pipe"),
    ("decimal_sign", "point or comma, in a CSV file"),
    ("header", "whether a CSV file begins with the names of its columns"),
    ("quotes", "in a CSV file: needed, or texts (every text, stamp and name of a column in quotation marks)"),
    ("arrays", "rows (an object a row) or columns (an array a column), in a JSON file"),
    ("numbers", "exact or floats, in a Parquet file or a workbook"),
    ("series", "instead of instrument, interval, side and source: the name of one series"),
];

/// Instruments and patterns that one question may name.
const MOST_NAMED: usize = 10_000;

impl Question {
    /// Reads a question.
    ///
    /// # Errors
    /// Everything that is wrong with it, each in a sentence.
    pub fn read(given: Given) -> Result<Question, Vec<String>> {
        let mut reader = Reader { given: given.0, problems: vec![] };
        let r = &mut reader;
        let whose = whose(r);
        let range = range(r);
        let as_of = r.text("as_of").and_then(|text| instant("as_of", &text).map_err(|e| r.wrong(e.to_string())).ok().flatten());
        let since = r.text("since").and_then(|text| past(r, &text));
        if let (Some(since), Some(as_of)) = (since, as_of)
            && since > as_of
        {
            r.wrong(format!("since: {since} comes after as_of, which is {as_of}; changes go forward in time"));
        }
        let (adjust, rolls) = adjust(r);
        let delisting = r.word("delisting", "a way to end", &DELISTING).unwrap_or(false);
        let pieces = pieces(r);
        let fit = r.whole("fit", 10, 100_000);
        let shape = shape(r, whose.interval);
        let file = file(r);
        combinations(r, &whose, &shape, &file);
        of_actions(r, adjust, rolls, &shape);
        if since.is_some() && shape.missing == Missing::Carried {
            r.wrong("since: a carried close is no change of its own; leave missing out");
        }
        if since.is_some() && fit.is_some() {
            r.wrong("fit: the answer at another instant may have bars of another length; give the interval instead");
        }
        if since.is_some() && shape.layout == Layout::Latest {
            r.wrong("since: the newest bars are other rows at another instant; ask for layout=long");
        }
        let unknown: Vec<String> = r.given.keys().cloned().collect();
        for key in unknown {
            r.wrong(unknown_key(&key));
        }
        if !reader.problems.is_empty() {
            return Err(reader.problems);
        }
        let Whose { instruments, search, universe, whole, interval, longer, sides, sources } = whose;
        Ok(Question {
            instruments,
            search,
            universe,
            whole,
            interval,
            longer,
            pieces,
            fit,
            sides,
            sources,
            range,
            as_of,
            since,
            adjust,
            rolls,
            delisting,
            shape,
            file,
        })
    }
}

/// The instant that changes are counted from.
fn past(r: &mut Reader, text: &str) -> Option<Timestamp> {
    match instant("since", text) {
        Ok(Some(at)) => Some(at),
        Ok(None) => {
            r.wrong("since: nothing has changed since now; give the instant of the answer that you have, from its header Mizuno-As-Of");
            None
        }
        Err(e) => {
            r.wrong(e.to_string());
            None
        }
    }
}

fn unknown_key(key: &str) -> String {
    let close = |known: &str| known.chars().zip(key.chars()).take_while(|(a, b)| a == b).count();
    let nearest = KEYS.iter().map(|(known, _)| *known).max_by_key(|known| close(known)).filter(|known| close(known) >= 2);
    match nearest {
        Some(known) => format!("{key}: there is no such key; did you mean {known}?"),
        None => format!("{key}: there is no such key; there is {}", KEYS.map(|(known, _)| known).join(", ")),
    }
}

struct Whose {
    instruments: Vec<String>,
    search: Option<String>,
    universe: Option<String>,
    whole: bool,
    interval: Interval,
    longer: Option<Length>,
    sides: Vec<Side>,
    sources: Vec<String>,
}

/// Sources that one question may name.
const MOST_SOURCES: usize = 20;

/// The values of a key, each once.
fn each_once<T: PartialEq + ToString>(r: &mut Reader, key: &str, read: impl Fn(&str) -> Result<T, String>) -> Vec<T> {
    let mut out = vec![];
    for text in r.list(key).unwrap_or_default().into_iter().filter(|text| !text.is_empty()) {
        match read(&text) {
            Ok(value) if out.contains(&value) => r.wrong(format!("{key}: `{text}` is named twice")),
            Ok(value) => out.push(value),
            Err(why) => r.wrong(format!("{key}: {why}")),
        }
    }
    if out.len() > MOST_SOURCES {
        r.wrong(format!("{key}: {} are named, and at most {MOST_SOURCES} may be", out.len()));
    }
    out
}

fn whose(r: &mut Reader) -> Whose {
    let mut instruments = vec![];
    for key in ["instruments", "instrument"] {
        instruments.extend(r.list(key).unwrap_or_default());
    }
    instruments.retain(|symbol| !symbol.is_empty());
    if instruments.len() > MOST_NAMED {
        r.wrong(format!("instruments: {} are named, and at most {MOST_NAMED} may be; use patterns", instruments.len()));
    }
    if let Some(at) = (1..instruments.len().min(MOST_NAMED)).find(|at| instruments[..*at].contains(&instruments[*at])) {
        r.wrong(format!("instruments: `{}` is named twice", instruments[at]));
    }
    let search = r.text("search").filter(|words| !words.trim().is_empty());
    let universe = r.text("universe").map(|name| name.trim().to_owned()).filter(|name| !name.is_empty());
    let members = r.word("members", "a way", &[("masked", false), ("whole", true)]);
    if members.is_some() && universe.is_none() {
        r.wrong("members: only a universe has some; name one with universe, or leave it out");
    }
    let whole = members.unwrap_or(false);
    let series = r.text("series");
    let long = |text: &str| Length::WORDS.iter().find(|(word, _)| *word == text).map(|(_, length)| *length);
    let longer = r.given.get("interval").and_then(|value| if let Value::Text(text) = value { long(text) } else { None });
    if longer.is_some() {
        r.given.remove("interval");
    }
    let interval = r.read::<Interval>("interval").or(longer.map(|_| Interval::Daily));
    let sides = each_once(r, "side", |text| text.parse::<Side>().map_err(|e| e.to_string()));
    let mut sources = each_once(r, "source", |text| Ok(text.to_owned()));
    if sources == [GOLDEN] {
        sources.clear();
    }
    if let Some(name) = series {
        let key = match name.parse::<SeriesKey>() {
            Ok(key) => key,
            Err(e) => {
                r.wrong(format!("series: {e}"));
                return Whose { instruments, search, universe, whole, interval: Interval::Daily, longer, sides, sources };
            }
        };
        let said = [
            ("instrument", instruments.first().cloned(), key.symbol.clone()),
            ("interval", interval.map(|i| i.to_string()), key.interval.to_string()),
            ("source", sources.iter().find(|s| **s != key.source).cloned(), key.source.clone()),
            ("side", sides.iter().find(|s| **s != key.side).map(ToString::to_string), key.side.to_string()),
        ];
        for (name, said, is) in said {
            if let Some(said) = said.filter(|s| *s != is) {
                r.wrong(format!("{name}: {said} contradicts the series {key}, whose {name} is {is}; leave one of the two out"));
            }
        }
        if let Some(name) = &universe {
            r.wrong(format!("universe: the series {key} is one instrument's, and {name} has many; leave one of the two out"));
        }
        let sources = Some(key.source).filter(|s| s != GOLDEN).into_iter().collect();
        let (instruments, sides) = (vec![key.symbol], vec![key.side]);
        return Whose { instruments, search: None, universe: None, whole: false, interval: key.interval, longer: None, sides, sources };
    }
    if instruments.is_empty() && search.is_none() && universe.is_none() {
        r.wrong("say whose bars: series=KBF/1m/harbour, or instruments=KBF and interval=1m, or universe=NAME");
    }
    Whose { instruments, search, universe, whole, interval: interval.unwrap_or(Interval::Daily), longer, sides, sources }
}

fn range(r: &mut Reader) -> Range {
    let range = Range {
        from: r.moment("from"),
        to: r.moment("to"),
        last: r.whole("last", 1, 100_000),
        this: r.word("this", "a period", &Period::WORDS),
    };
    let ends = range.from.is_some() || range.to.is_some();
    if usize::from(ends) + usize::from(range.last.is_some()) + usize::from(range.this.is_some()) > 1 {
        r.wrong("from and to, last, and this are three ways to say the range; use one of them");
    }
    range
}

fn shape(r: &mut Reader, interval: Interval) -> Shape {
    let layouts = [("long", Layout::Long), ("wide", Layout::Wide { inner: false }), ("latest", Layout::Latest)];
    let layout = r.word("layout", "a layout", &layouts).unwrap_or(Layout::Long);
    let join = r.word("join", "a join", &[("outer", false), ("inner", true)]);
    let layout = match (layout, join) {
        (Layout::Wide { .. }, Some(inner)) => Layout::Wide { inner },
        (layout, None) => layout,
        (layout, Some(_)) => {
            r.wrong("join: only a wide file joins; add layout=wide, or leave it out");
            layout
        }
    };
    let columns = columns(r, interval);
    let names = names(r, interval);
    let missing = r.word("missing", "a way", &Missing::WORDS);
    let hours = r.text("hours").and_then(|text| {
        let read = hours(&text);
        if read.is_none() {
            r.wrong(format!("hours: `{text}` is no time of the day; write it like 10:00-12:00"));
        }
        read
    });
    Shape {
        layout,
        columns,
        names,
        missing: missing.unwrap_or(Missing::Absent),
        clock: r.read::<Clock>("zone").unwrap_or(Clock::Utc),
        stamp: r.read::<Stamp>("stamp").unwrap_or_default(),
        at_end: r.word("stamp_at", "an end of a bar", &[("open", false), ("end", true)]).unwrap_or(false),
        hours,
        first_minutes: r.whole("first_minutes", 1, 1440),
        last_minutes: r.whole("last_minutes", 1, 1440),
        round: round(r),
        bridged: r.word("across_gaps", "a way", &[("empty", false), ("bridged", true)]).unwrap_or(false),
        picking: picking(r, layout),
        against: r.word("against", "a way to hold series against the first", &Against::WORDS),
    }
}

fn columns(r: &mut Reader, interval: Interval) -> Vec<Column> {
    let mut out: Vec<Column> = vec![];
    for name in r.list("columns").unwrap_or_default() {
        match Column::read(&name, interval) {
            Ok(column) if out.contains(&column) => r.wrong(format!("columns: `{}` is named twice", column.name(interval))),
            Ok(column) => out.push(column),
            Err(why) => r.wrong(format!("columns: {why}")),
        }
    }
    out
}

fn names(r: &mut Reader, interval: Interval) -> BTreeMap<Column, String> {
    let pairs: Vec<(String, String)> = match r.given.remove("names") {
        None => vec![],
        Some(Value::Names(names)) => names.into_iter().collect(),
        Some(Value::Text(text)) => {
            let pair = |part: &str| part.split_once(':').map(|(a, b)| (a.trim().to_owned(), b.trim().to_owned()));
            let pairs: Option<Vec<_>> = text.split(',').map(pair).collect();
            pairs.unwrap_or_else(|| {
                r.wrong(format!("names: `{text}` cannot be read; write it like close:Close,date:Date"));
                vec![]
            })
        }
        Some(Value::List(_)) => {
            r.wrong("names: a table is wanted, as { close = \"Close\" }");
            vec![]
        }
    };
    let mut out = BTreeMap::new();
    for (name, other) in pairs {
        match Column::read(&name, interval) {
            Err(why) => r.wrong(format!("names: {why}")),
            Ok(_) if other.is_empty() || other.chars().any(|c| c.is_control() || c == ',' || c == ':') => {
                r.wrong(format!("names: `{other}` cannot be the name of a column; commas and colons part them"));
            }
            Ok(column) => drop(out.insert(column, other)),
        }
    }
    let mut seen: Vec<&String> = out.values().collect();
    seen.sort();
    if let Some(twice) = seen.windows(2).find(|w| w[0] == w[1]) {
        r.problems.push(format!("names: two columns are called `{}`", twice[0]));
    }
    out
}

fn hours(text: &str) -> Option<(u16, u16)> {
    let minute = |text: &str| {
        let (h, m) = text.trim().split_once(':')?;
        let (h, m) = (h.parse::<u16>().ok()?, m.parse::<u16>().ok()?);
        (h < 24 && m < 60 || (h, m) == (24, 0)).then_some(h * 60 + m)
    };
    let (from, to) = text.split_once('-')?;
    Some((minute(from)?, minute(to)?)).filter(|(from, to)| from < to)
}

fn round(r: &mut Reader) -> Option<Round> {
    let text = r.text("round")?;
    if text == "tick" {
        return Some(Round::Tick);
    }
    let read = text.parse::<u8>().ok().filter(|n| *n <= 18).map(Round::Decimals);
    if read.is_none() {
        r.wrong(format!("round: `{text}` is neither a number of decimals from 0 to 18 nor tick"));
    }
    read
}

fn file(r: &mut Reader) -> File {
    let usual = File::default();
    File {
        format: r.word("format", "a format", &Format::ALL.map(|f| (f.word(), f))).unwrap_or(usual.format),
        separator: r.word("separator", "a separator", &SEPARATORS).unwrap_or(usual.separator),
        decimal_comma: r.word("decimal_sign", "a decimal sign", &[("point", false), ("comma", true)]).unwrap_or(false),
        header: r.word("header", "an answer", &[("true", true), ("false", false)]).unwrap_or(true),
        quoted_texts: r.word("quotes", "a way to quote", &[("needed", false), ("texts", true)]).unwrap_or(false),
        by_column: r.word("arrays", "a way to write JSON", &[("rows", false), ("columns", true)]).unwrap_or(false),
        floats: r.word("numbers", "a kind of numbers", &[("exact", false), ("floats", true)]).unwrap_or(false),
    }
}

/// What cannot be had together.
fn combinations(r: &mut Reader, whose: &Whose, shape: &Shape, file: &File) {
    let csv_only = [
        ("separator", file.separator != b','),
        ("decimal_sign", file.decimal_comma),
        ("header", !file.header),
        ("quotes", file.quoted_texts),
    ];
    for (key, _) in csv_only.into_iter().filter(|(_, given)| *given && file.format != Format::Csv) {
        r.wrong(format!("{key}: only a CSV file has it; leave it out, or write format=csv"));
    }
    if file.by_column && file.format != Format::Json {
        r.wrong("arrays: only a JSON file has them; leave it out, or write format=json");
    }
    if file.decimal_comma && file.separator == b',' {
        r.wrong("decimal_sign: a comma cannot both part cells and numbers; add separator=semicolon");
    }
    if file.floats && !file.format.is_typed() {
        r.wrong("numbers: the numbers of a text file are exact; floats are for format=parquet and format=xlsx");
    }
    if file.format == Format::Parquet && matches!(shape.stamp, Stamp::Wall | Stamp::Pattern(_)) {
        r.wrong("stamp: stamps in a Parquet file are UTC timestamps; leave it out, or use seconds, millis or micros");
    }
    if file.format == Format::Workbook && shape.stamp != Stamp::Rfc3339 {
        r.wrong("stamp: stamps in a workbook are dates and times of its own; leave it out");
    }
    if matches!(shape.layout, Layout::Wide { .. }) {
        let values = shape.columns.iter().filter(|c| !c.is_of_the_moment()).count();
        if !shape.columns.is_empty() && values == 0 {
            r.wrong("columns: a wide file needs at least one column beside the moment, as close");
        }
        for column in [Column::Instrument, Column::Series].into_iter().filter(|c| shape.columns.contains(c)) {
            r.wrong(format!("columns: a wide file has the instruments side by side; leave {} out", column.word()));
        }
    } else if shape.missing == Missing::Carried {
        r.wrong("missing: only a wide file carries closes forward; add layout=wide, or use missing=rows");
    }
    if shape.against.is_some() && !matches!(shape.layout, Layout::Wide { .. }) {
        r.wrong("against: only a wide file has series side by side; add layout=wide, or leave it out");
    }
    if shape.missing != Missing::Absent && (shape.layout == Layout::Latest || shape.picking != Picking::default()) {
        r.wrong("missing: rows without a bar cannot be held against conditions, and are no newest bars; leave it out");
    }
    if shape.missing == Missing::Carried && !shape.columns.is_empty() && !shape.columns.contains(&Column::Close) {
        r.wrong("missing: only the close is carried forward; add close to the columns");
    }
    if !whose.interval.is_intraday() {
        let intraday = [
            ("hours", shape.hours.is_some()),
            ("first_minutes", shape.first_minutes.is_some()),
            ("last_minutes", shape.last_minutes.is_some()),
            ("stamp_at", shape.at_end),
        ];
        for (key, _) in intraday.into_iter().filter(|(_, given)| *given) {
            r.wrong(format!("{key}: daily bars have no time of the day; leave it out, or ask for an intraday interval"));
        }
    }
}
