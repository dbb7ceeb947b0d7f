//! Statements that make the table of an edition known to an engine.

use super::{Engine, Type, schema};
use mizuno_config::edition::TableSpec;

/// The tables beside that of the bars, each with its columns.
fn beside() -> [(&'static str, Vec<(&'static str, Type)>); 3] {
    let dates = [("from_date", Type::Date), ("to_date", Type::Date)];
    let words = |words: &[&'static str]| words.iter().map(|word| (*word, Type::Word)).collect::<Vec<_>>();
    let factor = Type::Decimal(38, 18);
    [
        (
            "factors",
            [&words(&["interval", "instrument", "adjust", "anchor"])[..], &dates, &[("price_factor", factor), ("volume_factor", factor)]]
                .concat(),
        ),
        ("members", [&words(&["universe", "instrument"])[..], &dates].concat()),
        ("sessions", vec![("venue", Type::Word), ("trade_date", Type::Date), ("opens", Type::Instant), ("closes", Type::Instant)]),
    ]
}

/// The setting by which Spark gives up digits of a product.
pub(super) const WHOLE_PRODUCTS: &str = "spark.sql.decimalOperations.allowPrecisionLoss";

/// All of them, one after another.
pub(super) fn statements(table: &TableSpec, engine: Engine, place: &str, edition: &str, remark: &str) -> String {
    let place = place.replace('\'', "''");
    let mut out = vec![format!("-- The tables of {edition}, for {engine}. Times are in UTC: let the engine's time zone be UTC.{remark}")];
    if engine == Engine::Spark {
        // A price times a factor has more digits than it keeps by itself, and it would round twice.
        out.push(format!("SET {WHOLE_PRODUCTS} = false;"));
    }
    match engine {
        Engine::DataFusion | Engine::Spark => {
            out.push(created(engine, &table.name, &schema(table), &format!("{place}/{}/", table.name), 3))
        }
        Engine::DuckDb => out.push(bars_in_duckdb(table, &place)),
    }
    if engine == Engine::Spark {
        out.push(format!("MSCK REPAIR TABLE {};", table.name));
    }
    for (name, columns) in beside() {
        let (called, folder) = (format!("{}_{name}", table.name), format!("{place}/{}_{name}/", table.name));
        out.push(match engine {
            Engine::DuckDb => format!("CREATE VIEW {called} AS SELECT * FROM read_parquet('{folder}{name}.parquet');"),
            _ => created(engine, &called, &columns, &folder, 0),
        });
    }
    out.join("\n\n") + "\n"
}

/// A table whose last so many columns are names of folders.
fn created(engine: Engine, name: &str, columns: &[(&str, Type)], location: &str, folders: usize) -> String {
    let typed: Vec<String> = columns.iter().map(|(column, kind)| format!("  {} {}", named(engine, column), of(engine, *kind))).collect();
    let by: Vec<&str> = columns[columns.len() - folders..].iter().map(|(column, _)| *column).collect();
    let by = if by.is_empty() { String::new() } else { format!("\nPARTITIONED BY ({})", by.join(", ")) };
    let typed = typed.join(",\n");
    match engine {
        Engine::Spark => format!("CREATE TABLE {name} (\n{typed}\n)\nUSING parquet{by}\nLOCATION '{location}';"),
        _ => format!("CREATE EXTERNAL TABLE {name} (\n{typed}\n)\nSTORED AS PARQUET{by}\nLOCATION '{location}';"),
    }
}

fn bars_in_duckdb(table: &TableSpec, place: &str) -> String {
    let name = &table.name;
    // A table of daily bars alone has no times in its files.
    let files = format!(
        "read_parquet('{place}/{name}/**/*.parquet', hive_partitioning = true, union_by_name = true,\n  hive_types = {{'interval': VARCHAR, \
         'venue': VARCHAR, 'month': VARCHAR}})"
    );
    format!("CREATE VIEW {name} AS SELECT * FROM {files};")
}

/// The name of a column where a table is made: some are words of the language.
fn named(engine: Engine, column: &str) -> String {
    match (engine, column) {
        (Engine::DataFusion, "interval") => "\"interval\"".to_owned(),
        _ => column.to_owned(),
    }
}

fn of(engine: Engine, kind: Type) -> String {
    match (kind, engine) {
        (Type::Word, Engine::Spark) => "STRING".to_owned(),
        (Type::Word, _) => "VARCHAR".to_owned(),
        (Type::Date, _) => "DATE".to_owned(),
        (Type::Instant, Engine::Spark) => "TIMESTAMP".to_owned(),
        (Type::Instant, _) => "TIMESTAMP(6) WITH TIME ZONE".to_owned(),
        (Type::Decimal(digits, scale), _) => format!("DECIMAL({digits}, {scale})"),
    }
}
