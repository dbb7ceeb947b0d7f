//! Questions as SQL: the same rows, worked out by an engine that reads the published table of an edition.
//!
//! [`declare`](Research::declaration) writes the statements that make the table known to an engine, [`Research::sql`] a question as a query over it. The
//! query gives the rows of the answer as of the edition's instant. What it cannot say is refused by name, all at once; nothing is left out
//! in silence.

mod declare;
mod query;
mod refusing;
mod text;

use crate::{Research, answer::OPEN_INTEREST, editions::Recipe, question::Question};
use mizuno_config::edition::TableSpec;
use mizuno_core::Timestamp;
use mizuno_desk::DeskError;
use std::{collections::HashSet, fmt, str::FromStr, sync::Arc};

/// An engine whose words are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Engine {
    /// Apache DataFusion, alone or distributed.
    DataFusion,
    /// DuckDB.
    DuckDb,
    /// Apache Spark.
    Spark,
}

impl Engine {
    /// All of them, each with its word.
    pub const WORDS: [(&str, Engine); 3] = [("datafusion", Engine::DataFusion), ("duckdb", Engine::DuckDb), ("spark", Engine::Spark)];
}

impl FromStr for Engine {
    type Err = String;

    fn from_str(text: &str) -> Result<Engine, String> {
        let found = Engine::WORDS.iter().find(|(word, _)| *word == text).map(|(_, engine)| *engine);
        found.ok_or_else(|| format!("engine: `{text}` is none of {}", Engine::WORDS.map(|(word, _)| word).join(", ")))
    }
}

impl fmt::Display for Engine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(Engine::WORDS.iter().find(|(_, engine)| engine == self).map_or("", |(word, _)| word))
    }
}

/// A question as SQL.
pub struct Translated {
    /// The query.
    pub sql: String,
    /// The edition whose table it reads, as `desk/3`.
    pub edition: String,
    /// The instant that the table stands for.
    pub instant: Timestamp,
}

impl Research {
    /// A question as a query over the table of an edition: of `spec/which`, or where it is left out the newest of the one spec that has a table.
    ///
    /// # Errors
    /// When there is no such edition, it has no table, or everything that the query cannot say.
    pub async fn sql(self: &Arc<Self>, question: Question, edition: Option<&str>, engine: Engine) -> Result<Translated, DeskError> {
        let name = match edition {
            Some(name) => name.to_owned(),
            None => self.with_a_table()?,
        };
        let (spec, which) = name.split_once('/').unwrap_or((&name, "latest"));
        let row = self.edition(spec, which).await?.row;
        let called = format!("{}/{}", row.spec, row.number);
        let recipe = Recipe::read(&row)?;
        let described = recipe.edition()?;
        let Some(table) = &described.table else {
            return Err(DeskError::Invalid(format!("edition: {called} has no table; {}", self.which_have())));
        };
        let mut wrong = refusing::by_keys(&question, table, row.instant);
        let resolved = self.resolve(Question { as_of: Some(row.instant), ..question }).await;
        let resolved = match resolved {
            Ok(resolved) => resolved,
            Err(error) if wrong.is_empty() => return Err(error),
            Err(error) => {
                wrong.push(error.to_string());
                return Err(DeskError::Invalid(wrong.join("; ")));
            }
        };
        for file in described.files.iter().filter(|file| file.own.is_some()) {
            let of_table = self.resolve_then(&recipe.question(file)?, row.instant).await?;
            let there: HashSet<&str> = of_table.series.iter().map(|wanted| wanted.key.symbol.as_str()).collect();
            wrong.extend(refusing::by_instruments(&resolved, of_table.question.interval, &there, &called));
        }
        wrong.extend(refusing::by_series(&resolved, table, &called));
        if !wrong.is_empty() {
            return Err(DeskError::Invalid(wrong.join("; ")));
        }
        let sql = query::query(&resolved, table, engine, &called)?;
        Ok(Translated { sql, edition: called, instant: row.instant })
    }

    /// The statements that make the table of an edition known to an engine, with its files in `place`: where they were published when it is
    /// left out, or in the data directory where they were not.
    ///
    /// # Errors
    /// When there is no such edition, or it has no table.
    pub async fn declaration(&self, edition: (&str, &str), engine: Engine, place: Option<&str>) -> Result<String, DeskError> {
        let row = self.edition(edition.0, edition.1).await?.row;
        let called = format!("{}/{}", row.spec, row.number);
        let described = Recipe::read(&row)?.edition()?;
        let Some(table) = &described.table else {
            return Err(DeskError::Invalid(format!("{called} has no table; {}", self.which_have())));
        };
        let published = row.published.as_ref().and(described.publish.as_ref()).map(|publish| publish.folder(&row.spec, row.number));
        let (place, remark) = match (place, published) {
            (Some(place), _) => (place.trim_end_matches('/').to_owned(), ""),
            (None, Some(published)) => (published, ""),
            (None, None) if described.publish.is_some() => {
                (self.edition_folder(&row).display().to_string(), " It is not in object storage.")
            }
            (None, None) => (self.edition_folder(&row).display().to_string(), ""),
        };
        Ok(declare::statements(table, engine, &place, &called, remark))
    }

    /// The spec that has a table, where one has.
    fn with_a_table(&self) -> Result<String, DeskError> {
        let setup = self.desk.setup();
        let mut with = setup.config.editions.values().filter(|e| e.table.is_some()).map(|e| e.name.clone());
        match (with.next(), with.next()) {
            (Some(one), None) => Ok(one),
            (None, _) => Err(DeskError::Invalid(format!("edition: {}", self.which_have()))),
            (Some(_), Some(_)) => Err(DeskError::Invalid(format!("edition: say which; {}", self.which_have()))),
        }
    }

    /// Which specs have a table, in words.
    fn which_have(&self) -> String {
        let setup = self.desk.setup();
        let with: Vec<&str> = setup.config.editions.values().filter(|e| e.table.is_some()).map(|e| e.name.as_str()).collect();
        match with.is_empty() {
            true => "no edition has a table; write a [table] into a file in editions/ (docs/editions.md)".to_owned(),
            false => format!("there is a table in {}", with.join(", ")),
        }
    }
}

/// The columns of the table of bars, in order, each with its type. Of these `time` is empty for daily bars; the last three are names of folders.
fn schema(table: &TableSpec) -> Vec<(&'static str, Type)> {
    let (price, volume) = (Type::Decimal(18, table.price_decimals), Type::Decimal(18, table.volume_decimals));
    let held = Type::Decimal(OPEN_INTEREST.whole + OPEN_INTEREST.scale, OPEN_INTEREST.scale);
    let all = [
        ("instrument", Type::Word),
        ("trade_date", Type::Date),
        ("time", Type::Instant),
        ("open", price),
        ("high", price),
        ("low", price),
        ("close", price),
        ("volume", volume),
        ("open_interest", held),
        ("source", Type::Word),
        ("interval", Type::Word),
        ("venue", Type::Word),
        ("month", Type::Word),
    ];
    all.into_iter().filter(|(name, _)| *name != "open_interest" || table.open_interest).collect()
}

/// The type of a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Type {
    Word,
    Date,
    Instant,
    Decimal(u8, u8),
}
