//! A question as one query: bars picked, adjusted, made coarser, and given as the question's columns. Each is a step with a name.

use super::{
    Engine,
    declare::WHOLE_PRODUCTS,
    refusing::{of_conditions, plain},
    text::{date, half_even, instant, name, number, seconds, text, texts, time_of},
};
use crate::{
    answer::{FACTOR, decimals},
    editions::beside::FACTORS,
    question::{
        Column, Question, Round,
        picking::{Condition, Operand, Sign},
        resolve::{Resolved, Wanted, span_of},
    },
};
use mizuno_config::edition::TableSpec;
use mizuno_core::{
    Interval, Overlap, Slot, Span, Timestamp, TradeDate,
    adjust::{Adjust, Anchor},
    resample::Length,
    time::SECOND,
};
use mizuno_desk::DeskError;
use std::collections::{BTreeMap, BTreeSet};

/// The first instant behind the year 9999, and a date long before any bar: ranges beyond are open.
const OPEN: (i64, i64) = (-62_135_596_800 * SECOND, 253_402_300_800 * SECOND);

/// A query being written.
struct Query<'q> {
    resolved: &'q Resolved,
    question: &'q Question,
    table: &'q TableSpec,
    engine: Engine,
    /// The interval of the bars that are read.
    finer: Interval,
    /// The columns of the answer.
    columns: Vec<Column>,
    /// The prices, the volume and the open interest that it needs.
    numbers: Vec<Column>,
    /// The steps so far, each with its name.
    steps: Vec<(&'static str, String)>,
}

/// The query.
pub(super) fn query(resolved: &Resolved, table: &TableSpec, engine: Engine, edition: &str) -> Result<String, DeskError> {
    let question = &resolved.question;
    let columns = question.columns(resolved.is_of_several());
    let mut needed: Vec<Column> = columns.iter().copied().chain(of_conditions(question)).collect();
    if columns.contains(&Column::RawClose) {
        needed.push(Column::Close);
    }
    let numbers: Vec<Column> = [Column::Open, Column::High, Column::Low, Column::Close, Column::Volume, Column::OpenInterest]
        .into_iter()
        .filter(|number| needed.contains(number))
        .collect();
    let finer = resolved.series.first().map_or(question.interval, |wanted| wanted.key.interval);
    let mut query = Query { resolved, question, table, engine, finer, columns, numbers, steps: vec![] };
    query.picked()?;
    if question.adjust.is_some() {
        query.adjusted();
    } else if let Some(decimals) = query.rounding().filter(|decimals| *decimals < table.price_decimals) {
        query.rounded(decimals);
    }
    if question.length() != Length::Interval(finer) {
        query.coarser();
    }
    Ok(query.written(edition))
}

impl Query<'_> {
    fn rounding(&self) -> Option<u8> {
        match self.question.shape.round {
            Some(Round::Decimals(decimals)) => Some(decimals),
            _ => None,
        }
    }

    fn has(&self, column: Column) -> bool {
        self.columns.contains(&column)
    }

    /// The step before, as a table.
    fn before(&self) -> &'static str {
        self.steps.last().map_or("", |(name, _)| name)
    }

    fn step(&mut self, name: &'static str, select: &[String], rest: &str) {
        self.steps.push((name, format!("  SELECT {}\n  {rest}", listed(select, "    "))));
    }

    /// The columns by which rows are known.
    fn keys(&self) -> Vec<String> {
        let keys = ["venue", "instrument", "trade_date"].into_iter().chain(self.finer.is_intraday().then_some("time"));
        keys.chain(self.has(Column::Source).then_some("source")).map(str::to_owned).collect()
    }

    /// The bars that are asked for, as traded.
    fn picked(&mut self) -> Result<(), DeskError> {
        let numbers = self.numbers.iter().map(|n| n.word().into_owned());
        let select: Vec<String> = self.keys().into_iter().chain(numbers).map(|column| format!("b.{column}")).collect();
        let mut groups: BTreeMap<(&str, (i64, i64)), Vec<&Wanted>> = BTreeMap::new();
        for wanted in &self.resolved.series {
            groups.entry((&wanted.instrument.venue, (wanted.range.start.0, wanted.range.end.0))).or_default().push(wanted);
        }
        let mut parts = vec![];
        for ((venue, (start, end)), series) in groups {
            let mut all = vec![format!("b.venue = {}", text(venue))];
            all.extend(self.range(&(Slot(start)..Slot(end)), series[0])?);
            all.extend(self.whose(&series)?);
            parts.push(all.join("\n    AND "));
        }
        let which = match &parts[..] {
            [one] => one.clone(),
            many => format!("(\n    {}\n  )", many.iter().map(|part| format!("({part})")).collect::<Vec<_>>().join("\n    OR ")),
        };
        let rest = format!("FROM {} b\n  WHERE b.interval = {}\n    AND {which}", self.table.name, text(&self.finer.to_string()));
        self.step("picked", &select, &rest);
        Ok(())
    }

    /// Which part of time.
    fn range(&self, span: &Span, wanted: &Wanted) -> Result<Vec<String>, DeskError> {
        let calendar = self.resolved.calendar(wanted)?;
        let mut out = vec![];
        if span.start >= span.end {
            return Ok(vec!["1 = 0".to_owned()]);
        }
        let days = |slot: Slot| match self.finer {
            Interval::Daily => slot.0.saturating_mul(86_400 * SECOND),
            Interval::Intraday { .. } => slot.0,
        };
        let (from, to) = (days(span.start) > OPEN.0, days(span.end) < OPEN.1);
        let mut month = |sign: &str, date: TradeDate| out.push(format!("b.month {sign} {}", text(&date.to_string()[..7])));
        // The dates of the sessions that the range touches: what prunes files.
        let sessions = calendar.sessions();
        match self.finer {
            Interval::Daily => {
                let (first, last) = (span.start.date(), Slot(span.end.0 - 1).date());
                if from {
                    month(">=", first);
                }
                if to {
                    month("<=", last);
                }
                out.extend(from.then(|| format!("b.trade_date >= {}", date(first))));
                out.extend(to.then(|| format!("b.trade_date <= {}", date(last))));
            }
            Interval::Intraday { .. } => {
                let first = sessions.get(sessions.partition_point(|s| s.close().0 <= span.start.0)).map(|s| s.date);
                let last = sessions[..sessions.partition_point(|s| s.open().0 < span.end.0)].last().map(|s| s.date);
                if let Some(first) = first.filter(|_| from) {
                    month(">=", first);
                }
                if let Some(last) = last.filter(|_| to) {
                    month("<=", last);
                }
                out.extend(from.then(|| format!("b.time >= {}", instant(Timestamp(span.start.0)))));
                out.extend(to.then(|| format!("b.time < {}", instant(Timestamp(span.end.0)))));
            }
        }
        Ok(out)
    }

    /// Which instruments, and members on which days.
    fn whose(&self, series: &[&Wanted]) -> Result<Option<String>, DeskError> {
        let question = self.question;
        if question.instruments.iter().any(|pattern| pattern == "*") {
            return Ok(None);
        }
        let (patterns, named): (Vec<&String>, Vec<&String>) = question.instruments.iter().partition(|i| i.contains('*'));
        let setup = &self.resolved.setup;
        let named: BTreeSet<&str> = named.into_iter().filter_map(|n| setup.instrument(n).ok()).map(|i| setup.symbol_then(i)).collect();
        let named: Vec<&str> = series.iter().map(|wanted| wanted.key.symbol.as_str()).filter(|symbol| named.contains(symbol)).collect();
        let mut any = vec![];
        if !named.is_empty() {
            any.push(format!("b.instrument IN {}", texts(named)));
        }
        any.extend(patterns.iter().map(|pattern| like(pattern)));
        if let Some(universe) = &question.universe {
            let of = format!("SELECT 1 FROM {}_members m WHERE m.universe = {}", self.table.name, text(universe));
            any.push(match question.whole {
                false => {
                    format!("EXISTS ({of} AND m.instrument = b.instrument AND b.trade_date >= m.from_date AND b.trade_date < m.to_date)")
                }
                true => {
                    let days = self.days(series[0])?;
                    let last = days.end.map_or(String::new(), |last| format!(" AND m.from_date <= {}", date(last)));
                    let first = days.start.map_or(String::new(), |first| format!(" AND m.to_date > {}", date(first)));
                    format!("EXISTS ({of} AND m.instrument = b.instrument{last}{first})")
                }
            });
        }
        Ok(match &any[..] {
            [] => None,
            [one] => Some(one.clone()),
            many => Some(format!("({})", many.join("\n      OR "))),
        })
    }

    /// The first and the last trade date of a question's range, each where it has one.
    fn days(&self, wanted: &Wanted) -> Result<std::ops::Range<Option<TradeDate>>, DeskError> {
        let calendar = self.resolved.calendar(wanted)?;
        let span = span_of(&self.question.range, Interval::Daily, calendar, self.resolved.instant)?;
        let ever = calendar.sessions();
        let whole = match (ever.first(), ever.last()) {
            (Some(first), Some(last)) => Slot::on(first.date)..Slot::on(last.date.plus(1)),
            _ => span.clone(),
        };
        let clipped = span.clip(&whole);
        let first = (clipped.start > whole.start).then(|| clipped.start.date());
        let last = (clipped.end < whole.end).then(|| Slot(clipped.end.0 - 1).date());
        Ok(first..last)
    }

    /// Prices and volumes times the factors of the day, rounded once.
    fn adjusted(&mut self) {
        let Some(adjustment) = self.question.adjust else { return };
        let is_asked = |(_, which, _, at): &&(_, Adjust, _, Anchor)| *which == adjustment.which && *at == adjustment.anchor;
        let Some((adjust, _, anchor, _)) = FACTORS.iter().find(is_asked) else { return };
        let one = "CAST('1' AS DECIMAL(38, 18))";
        let times =
            |column: &Column, factor: &str| format!("CAST(p.{0} * coalesce(f.{factor}, {one}) AS DECIMAL(38, 12)) AS {0}", column.word());
        let mut select: Vec<String> = self.keys().into_iter().map(|key| format!("p.{key}")).collect();
        select.extend(self.numbers.iter().map(|n| match n {
            Column::OpenInterest => "p.open_interest".to_owned(),
            Column::Volume => times(n, "volume_factor"),
            _ => times(n, "price_factor"),
        }));
        if self.has(Column::RawClose) {
            select.push("p.close AS raw_close".to_owned());
        }
        for column in [Column::PriceFactor, Column::VolumeFactor].into_iter().filter(|c| self.has(*c)) {
            select.push(format!("coalesce(f.{0}, {one}) AS {0}", column.word()));
        }
        let rest = format!(
            "FROM picked p\n  LEFT JOIN {}_factors f\n    ON f.interval = {} AND f.adjust = '{adjust}' AND f.anchor = '{anchor}' AND f.instrument = \
             p.instrument\n    AND p.trade_date >= f.from_date AND p.trade_date < f.to_date",
            self.table.name,
            text(&self.finer.to_string())
        );
        self.step("multiplied", &select, &rest);
        let made_coarser = self.question.length() != Length::Interval(self.finer);
        let decimals = decimals(self.question.shape.round);
        let mut select = self.keys();
        for column in &self.numbers {
            let word = column.word();
            select.push(match column {
                Column::OpenInterest => word.into_owned(),
                // The sum of volumes is rounded, and not each.
                Column::Volume if made_coarser => word.into_owned(),
                Column::Volume => format!("{} AS {word}", half_even(&word, self.table.volume_decimals)),
                _ => format!("{} AS {word}", half_even(&word, decimals)),
            });
        }
        select.extend([Column::RawClose, Column::PriceFactor, Column::VolumeFactor].into_iter().filter(|c| self.has(*c)).map(
            |c| match c {
                Column::RawClose => c.word().into_owned(),
                factor => format!("CAST({0} AS DECIMAL(38, {1})) AS {0}", factor.word(), FACTOR),
            },
        ));
        self.step("adjusted", &select, "FROM multiplied");
    }

    /// Prices as traded, to fewer decimals.
    fn rounded(&mut self, decimals: u8) {
        let mut select = self.keys();
        for column in &self.numbers {
            let word = column.word();
            select.push(match column {
                Column::Volume | Column::OpenInterest => word.into_owned(),
                _ => format!("{} AS {word}", half_even(&format!("CAST({word} AS DECIMAL(38, 12))"), decimals)),
            });
        }
        self.step("rounded", &select, "FROM picked");
    }

    /// Bars of a coarser interval.
    fn coarser(&mut self) {
        let (length, sessions) = (self.question.length(), format!("{}_sessions", self.table.name));
        let numbers: Vec<String> = self.numbers.iter().map(|n| format!("p.{}", n.word())).collect();
        let mut select: Vec<String> = self.keys().into_iter().map(|key| format!("p.{key}")).chain(numbers).collect();
        let before = self.before();
        let rest = match length {
            Length::Interval(Interval::Intraday { seconds: step }) => {
                let (opens, at) = (seconds(self.engine, "s.opens"), seconds(self.engine, "p.time"));
                // Whole numbers are divided without a rest in every engine this way.
                select.push(format!("{} AS label", time_of(self.engine, &format!("{at} - ({at} - {opens}) % {step}"))));
                format!(
                    "FROM {before} p\n  JOIN {sessions} s\n    ON s.venue = p.venue AND s.trade_date = p.trade_date AND p.time >= s.opens AND \
                     p.time < s.closes"
                )
            }
            Length::Interval(Interval::Daily) => {
                select.push("p.trade_date AS label".to_owned());
                format!("FROM {before} p")
            }
            period => {
                let word = match period {
                    Length::Week => "week",
                    Length::Month => "month",
                    Length::Quarter => "quarter",
                    _ => "year",
                };
                let end = if self.question.pieces.by_last { "max" } else { "min" };
                self.steps.push((
                    "periods",
                    format!(
                        "  SELECT venue, date_trunc('{word}', trade_date) AS period, {end}(trade_date) AS label\n  FROM {sessions}\n  GROUP BY \
                         venue, date_trunc('{word}', trade_date)"
                    ),
                ));
                select.push("s.label".to_owned());
                format!("FROM {before} p\n  JOIN periods s\n    ON s.venue = p.venue AND s.period = date_trunc('{word}', p.trade_date)")
            }
        };
        self.step("placed", &select, &rest);
        let moment = if self.finer.is_intraday() { "time" } else { "trade_date" };
        let turn = |way: &str, name: &str| format!("row_number() OVER (PARTITION BY instrument, label ORDER BY {moment}{way}) AS {name}");
        self.step("numbered", &["*".to_owned(), turn("", "from_first"), turn(" DESC", "from_last")], "FROM placed");
        let mut select = vec!["instrument".to_owned(), "label".to_owned(), "min(trade_date) AS trade_date".to_owned()];
        for column in &self.numbers {
            select.push(match column {
                Column::Open => "max(CASE WHEN from_first = 1 THEN open END) AS open".to_owned(),
                Column::High => "max(high) AS high".to_owned(),
                Column::Low => "min(low) AS low".to_owned(),
                Column::Close | Column::OpenInterest => format!("max(CASE WHEN from_last = 1 THEN {0} END) AS {0}", column.word()),
                _ => {
                    let sum = match self.question.adjust {
                        None => "sum(volume)".to_owned(),
                        Some(_) => half_even("CAST(sum(volume) AS DECIMAL(38, 12))", self.table.volume_decimals),
                    };
                    format!("CASE WHEN count(volume) = count(*) THEN {sum} END AS volume")
                }
            });
        }
        if self.has(Column::Source) {
            select.push("CASE WHEN min(source) = max(source) THEN min(source) ELSE 'several' END AS source".to_owned());
        }
        if self.has(Column::Held) {
            select.push("count(*) AS held".to_owned());
        }
        self.step("coarser", &select, "FROM numbered\n  GROUP BY instrument, label");
    }

    fn written(&self, edition: &str) -> String {
        let made = self.question.length() != Length::Interval(self.finer);
        let rows = if self.question.longer.is_some() { Interval::Daily } else { self.question.interval };
        let moment = match (made, rows.is_intraday()) {
            (true, _) => "label",
            (false, true) => "time",
            (false, false) => "trade_date",
        };
        let column = |column: &Column| {
            let from = match column {
                Column::Time => moment.into(),
                Column::TradeDate if !rows.is_intraday() => moment.into(),
                other => other.word(),
            };
            let called = self.question.shape.names.get(column).map_or_else(|| column.name(rows).into_owned(), Clone::clone);
            let called = name(self.engine, &called);
            if from == called { from.into_owned() } else { format!("{from} AS {called}") }
        };
        let columns: Vec<String> = self.columns.iter().map(column).collect();
        let holds: Vec<String> = self.question.shape.picking.conditions.iter().map(condition).collect();
        let holds = if holds.is_empty() { String::new() } else { format!("\nWHERE {}", holds.join("\n  AND ")) };
        let steps: Vec<String> = self.steps.iter().map(|(name, text)| format!("{name} AS (\n{text}\n)")).collect();
        let setting = match (self.engine, self.question.adjust) {
            (Engine::Spark, Some(_)) => format!(" {WHOLE_PRODUCTS} must be false."),
            _ => String::new(),
        };
        format!(
            "-- As of {}, over the table of {edition}, for {}.{setting}\nWITH {}\nSELECT {}\nFROM {}{holds}\nORDER BY instrument, {moment};\n",
            self.resolved.instant,
            self.engine,
            steps.join(", "),
            listed(&columns, "  "),
            self.before(),
        )
    }
}

/// Columns parted by commas: on one line where they are short, else each on its own.
fn listed(columns: &[String], indent: &str) -> String {
    let line = columns.join(", ");
    if line.len() <= 100 { line } else { format!("\n{indent}{}", columns.join(&format!(",\n{indent}"))) }
}

/// Whether a symbol fits a pattern.
fn like(pattern: &str) -> String {
    let escaped = pattern.replace('!', "!!").replace('%', "!%").replace('_', "!_");
    let escape = if escaped == pattern { "" } else { " ESCAPE '!'" };
    format!("b.instrument LIKE {}{escape}", text(&escaped.replace('*', "%")))
}

fn condition(of: &Condition) -> String {
    let side = |number: mizuno_core::derived::Derived| plain(number).map_or_else(String::new, |column| column.word().into_owned());
    let sign = match of.sign {
        Sign::AtLeast => ">=",
        Sign::AtMost => "<=",
        Sign::Unlike => "<>",
        Sign::Above | Sign::CrossesAbove => ">",
        Sign::Below | Sign::CrossesBelow => "<",
        Sign::Equal => "=",
    };
    let right = match of.right {
        Operand::Derived(right) => side(right),
        Operand::Number(given) => number(given),
    };
    format!("{} {sign} {right}", side(of.left))
}
