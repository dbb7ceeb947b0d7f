//! What an edition is, for programs: a Frictionless data package. Its own words stand under `mizuno`.

use super::{PROGRAM, Recipe, contents::Contents, second, table::Table};
use crate::{
    answer::batch::{Heading, Kind},
    question::{File, Format, Layout, Question, zone::Stamp},
};
use mizuno_config::{Edition, edition::ABOUT};
use mizuno_core::Completeness;
use mizuno_store::editions::FileRow;
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// A file of an edition, as its package tells of it.
pub(super) struct Resource {
    pub row: FileRow,
    pub cut: BTreeMap<&'static str, String>,
}

/// The files of one question, as the package tells of them.
pub(super) struct Answered {
    /// The question's name, and itself.
    pub name: String,
    pub question: Question,
    /// The columns of its files, in exact numbers and as plain types.
    pub headings: Vec<Heading>,
    pub adjustment: String,
    pub units: String,
    pub files: Vec<Resource>,
}

/// A file that is no answer to a question of the spec, with its columns.
pub(super) struct Told {
    pub row: FileRow,
    /// What it is written like.
    pub file: File,
    pub stamp: Stamp,
    pub headings: Vec<Heading>,
}

/// The package; its fields stand in order of their names, as those of all JSON in it do.
#[derive(Serialize)]
struct Package<'a> {
    created: String,
    mizuno: Value,
    name: String,
    resources: Vec<Entry<'a>>,
    title: &'a str,
}

/// A resource. Those of answers can be many thousands, so these are written as they are.
#[derive(Serialize)]
#[serde(untagged)]
enum Entry<'a> {
    File(FileEntry<'a>),
    Other(Value),
}

#[derive(Serialize)]
struct FileEntry<'a> {
    bytes: i64,
    #[serde(skip_serializing_if = "Option::is_none")]
    dialect: Option<Dialect>,
    #[serde(skip_serializing_if = "Option::is_none")]
    encoding: Option<&'static str>,
    format: &'static str,
    hash: String,
    mediatype: Option<&'static str>,
    mizuno: Cut<'a>,
    name: String,
    path: &'a str,
    schema: &'a str,
}

#[derive(Serialize)]
struct Dialect {
    delimiter: char,
    header: bool,
}

#[derive(Serialize)]
struct Cut<'a> {
    cut: &'a BTreeMap<&'static str, String>,
    question: &'a str,
    rows: i64,
}

/// The package as JSON.
pub(super) fn text(
    edition: &Edition,
    recipe: &Recipe,
    contents: &Contents,
    answered: &[Answered],
    about: &[FileRow],
    tables: &[Told],
) -> String {
    let mut resources: Vec<Entry<'_>> = vec![];
    let schemas: Vec<String> = answered.iter().map(schema_path).collect();
    for (answer, schema) in answered.iter().zip(&schemas) {
        resources.extend(answer.files.iter().map(|file| Entry::File(resource(answer, schema, file))));
    }
    for row in about.iter().filter(|row| row.path.ends_with(".csv")) {
        let name = row.path.trim_start_matches(ABOUT).trim_start_matches('/').trim_end_matches(".csv");
        let table = contents.tables.iter().find(|(table, _)| *table == name).map(|(_, table)| table);
        resources.push(Entry::Other(described(row, name, table)));
    }
    resources.extend(tables.iter().map(|told| Entry::Other(beside(told))));
    let questions: Map<String, Value> = answered.iter().map(|a| (a.name.clone(), told(&a.question, &a.adjustment, &a.units))).collect();
    let package = Package {
        name: edition.name.to_lowercase(),
        title: &edition.title,
        created: second(contents.instant),
        resources,
        mizuno: json!({
            "as_of": contents.instant.to_string(),
            "program": PROGRAM,
            "configuration": contents.configuration,
            "spec": recipe.spec,
            "questions": questions,
            "completeness": figures(&contents.completeness),
            "does_not_hold": contents.does_not_hold,
            "without_bars": contents.without,
            "since": contents.since.map(|at| json!({
                "as_of": at.to_string(),
                "instruments_joined": contents.joined,
                "instruments_left": contents.left,
            })),
        }),
    };
    let mut out = serde_json::to_string_pretty(&package).unwrap_or_default();
    out.push('\n');
    out
}

fn figures(c: &Completeness) -> Value {
    json!({ "expected": c.expected, "held": c.held, "excused": c.excused, "missing": c.missing, "quiet": c.quiet })
}

fn told(question: &Question, adjustment: &str, units: &str) -> Value {
    let asked: Value = serde_json::from_str(&question.to_json()).unwrap_or_default();
    json!({
        "asked": asked,
        "prices": adjustment,
        "units": units,
        "clock": question.shape.clock.to_string(),
        "stamped": if question.shape.at_end { "at the end of a bar" } else { "at the open of a bar" },
    })
}

/// The file that has the columns of the files of a question.
pub(super) fn schema_path(answer: &Answered) -> String {
    format!("{ABOUT}/columns-{}-{}.json", answer.name, answer.question.file.format.word())
}

/// The columns of the files of a question, as a Table Schema.
pub(super) fn schema(answer: &Answered) -> String {
    let mut out = serde_json::to_string_pretty(&columns(answer)).unwrap_or_default();
    out.push('\n');
    out
}

fn columns(answer: &Answered) -> Value {
    let question = &answer.question;
    let fields = fields(&answer.headings, &question.file, &question.shape.stamp);
    let is_key = |h: &&Heading| match question.shape.layout {
        Layout::Long => matches!(h.kind, Kind::Moment | Kind::Date | Kind::Whole) || matches!(h.name.as_str(), "instrument" | "series"),
        Layout::Wide { .. } => matches!(h.kind, Kind::Moment | Kind::Date),
        Layout::Latest => h.name == "instrument",
    };
    let key: Vec<&str> = answer.headings.iter().filter(is_key).map(|h| h.name.as_str()).collect();
    json!({ "fields": fields, "primaryKey": key, "missingValues": [""] })
}

/// The columns of a file that is written like this.
fn fields(headings: &[Heading], file: &File, stamp: &Stamp) -> Vec<Value> {
    let of_moments = matches!(stamp, Stamp::Seconds | Stamp::Millis | Stamp::Micros);
    let field = |heading: &Heading| {
        let kind = match &heading.kind {
            Kind::Moment | Kind::Date if of_moments => "integer",
            kind => type_of(kind),
        };
        let mut out = json!({ "name": heading.name, "type": kind, "constraints": { "required": !heading.optional } });
        if kind == "number" && file.decimal_comma {
            out["decimalChar"] = json!(",");
        }
        if matches!(kind, "datetime" | "date") && !matches!(stamp, Stamp::Rfc3339) {
            out["format"] = json!("any");
        }
        if let (Kind::Number(room), Format::Parquet, false) = (&heading.kind, file.format, file.floats) {
            out["decimal"] = json!({ "precision": if room.fit() { 18 } else { 38 }, "scale": room.scale });
        }
        out
    };
    headings.iter().map(field).collect()
}

fn type_of(kind: &Kind) -> &'static str {
    match kind {
        Kind::Moment => "datetime",
        Kind::Date => "date",
        Kind::Number(_) | Kind::Real => "number",
        Kind::Words(_) => "string",
        Kind::Flag => "boolean",
        Kind::Whole => "integer",
    }
}

/// What lies beside the answers: a table, or what has changed.
fn beside(told: &Told) -> Value {
    let row = &told.row;
    let mut out = filed(row, told.file.format);
    out["name"] = json!(named(&row.path));
    out["schema"] = json!({ "fields": fields(&told.headings, &told.file, &told.stamp), "missingValues": [""] });
    out["mizuno"] = json!({ "rows": row.rows });
    if told.file.format == Format::Csv {
        out["encoding"] = json!("utf-8");
    }
    out
}

/// A file as a resource tells of it, whatever is in it.
fn filed(row: &FileRow, format: Format) -> Value {
    json!({
        "path": row.path,
        "format": format.word(),
        "mediatype": media_type(format),
        "bytes": row.bytes,
        "hash": format!("sha256:{}", row.digest),
    })
}

fn resource<'a>(answer: &'a Answered, schema: &'a str, file: &'a Resource) -> FileEntry<'a> {
    let (row, format) = (&file.row, answer.question.file.format);
    let is_text = format == Format::Csv;
    FileEntry {
        bytes: row.bytes,
        dialect: is_text.then(|| Dialect { delimiter: char::from(answer.question.file.separator), header: answer.question.file.header }),
        encoding: is_text.then_some("utf-8"),
        format: format.word(),
        hash: format!("sha256:{}", row.digest),
        mediatype: media_type(format),
        mizuno: Cut { cut: &file.cut, question: &answer.name, rows: row.rows },
        name: named(&row.path),
        path: &row.path,
        schema,
    }
}

fn described(row: &FileRow, name: &str, table: Option<&Table>) -> Value {
    let mut out = filed(row, Format::Csv);
    out["name"] = json!(format!("about-{}", named(name)));
    out["encoding"] = json!("utf-8");
    if let Some(table) = table {
        let fields: Vec<Value> = table.headings().iter().map(|name| json!({ "name": name, "type": "string" })).collect();
        out["schema"] = json!({ "fields": fields, "missingValues": [""] });
    }
    out
}

fn media_type(format: Format) -> Option<&'static str> {
    format.media_type().split(';').next()
}

/// A path as the name of a resource: small letters, digits, hyphens, dots and underscores.
fn named(path: &str) -> String {
    let keep = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_') { c.to_ascii_lowercase() } else { '-' };
    path.chars().map(keep).collect()
}
