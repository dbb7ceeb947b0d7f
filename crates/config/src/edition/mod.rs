//! Files in `editions/`: sets of files that are made from saved questions, when they are made, and what must hold before.

mod publish;
mod table;

pub use publish::Publish;
pub use table::TableSpec;

use crate::{Config, Problem, Problems, known, problem, text};
use jiff::civil::Time;
use mizuno_core::{finding::Severity, review::Every};
use serde::{Deserialize, Deserializer, de::Error};
use std::path::Path;

/// A standing order for files.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Edition {
    /// The name of its file.
    #[serde(skip)]
    pub name: String,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// The venue whose calendar and clock say when it is made and what it is called.
    pub venue: String,
    /// When it is made; only when somebody asks for it when left out.
    #[serde(default)]
    pub made: Option<Due>,
    /// What must hold before it is made.
    #[serde(default)]
    pub holds: Holds,
    /// How many of the newest are kept; all when left out.
    #[serde(default)]
    pub keep: Option<u32>,
    /// Where each is published besides.
    #[serde(default)]
    pub publish: Option<Publish>,
    /// Its bars as one table for SQL engines.
    #[serde(default)]
    pub table: Option<TableSpec>,
    /// Its files; those of the table, too.
    #[serde(default, rename = "file")]
    pub files: Vec<FileSpec>,
}

/// When an edition is made.
#[derive(Clone, Debug, PartialEq)]
pub struct Due {
    /// Once a day, week (ISO 8601) or month, by trade dates.
    pub every: Every,
    /// On the first session of the period; else on the last.
    pub first: bool,
    /// When on that trade date.
    pub when: When,
}

/// The moment on a trade date.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum When {
    /// At a time on the venue's clock.
    At(Time),
    /// So many microseconds after the close.
    AfterClose(i64),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct DueFile {
    every: String,
    #[serde(default)]
    session: Option<String>,
    #[serde(default, deserialize_with = "time_if_there")]
    at: Option<Time>,
    #[serde(default, deserialize_with = "text::duration_if_there")]
    after_close: Option<i64>,
}

fn time_if_there<'de, D: Deserializer<'de>>(d: D) -> Result<Option<Time>, D::Error> {
    text::time_of_day(d).map(Some)
}

impl<'de> Deserialize<'de> for Due {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Due, D::Error> {
        let DueFile { every, session, at, after_close } = DueFile::deserialize(d)?;
        let every = match every.as_str() {
            "day" => Every::Day,
            "week" => Every::Week,
            "month" => Every::Month,
            other => return Err(D::Error::custom(format!("every: `{other}` is none of day, week and month"))),
        };
        let first = match session.as_deref() {
            Some("first") => true,
            Some("last") => false,
            None if every == Every::Day => false,
            Some(other) => return Err(D::Error::custom(format!("session: `{other}` is neither first nor last"))),
            None => return Err(D::Error::custom("session: say whether it is made on the `first` or the `last` session of its period")),
        };
        let when = match (at, after_close) {
            (Some(at), None) => When::At(at),
            (None, Some(delay)) => When::AfterClose(delay),
            _ => return Err(D::Error::custom("say when it is made, in one way: at = \"06:00\" or after_close = \"30m\"")),
        };
        Ok(Due { every, first, when })
    }
}

/// What must hold before an edition is made.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Holds {
    /// Of what is asked for at least so much is held, in percent.
    #[serde(default)]
    pub completeness: Option<f64>,
    /// No finding that nobody accepted is as bad as this.
    #[serde(default, deserialize_with = "severity")]
    pub no_findings: Option<Severity>,
    /// Every collector that it draws from has run to its end for the newest session that has closed.
    #[serde(default)]
    pub collectors_done: bool,
    /// So many microseconds are waited for all that.
    #[serde(default, deserialize_with = "text::duration_if_there")]
    pub wait: Option<i64>,
    /// What happens then.
    #[serde(default)]
    pub otherwise: Otherwise,
}

/// What happens when something does not hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Otherwise {
    /// It is not made, and the morning page tells it.
    #[default]
    Tell,
    /// It is made, and says of itself what does not hold.
    Mark,
}

fn severity<'de, D: Deserializer<'de>>(d: D) -> Result<Option<Severity>, D::Error> {
    match String::deserialize(d)?.as_str() {
        "doubt" => Ok(Some(Severity::Doubt)),
        "notice" => Ok(Some(Severity::Notice)),
        other => Err(D::Error::custom(format!("`{other}` is neither `doubt` nor `notice`"))),
    }
}

/// Files that are made from one question.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileSpec {
    /// Their path in the edition, with a place in braces for each of the cuts.
    pub name: String,
    /// The saved question.
    pub question: String,
    /// The text of the question, where it is one of the table's own and no saved one.
    #[serde(skip)]
    pub own: Option<String>,
    /// What they are cut by; one file when left out.
    #[serde(default)]
    pub cut: Vec<Cut>,
    /// Another format than the question's.
    #[serde(default)]
    pub format: Option<String>,
    /// Digits after the point of prices in a Parquet file: one type for all files of all editions.
    #[serde(default = "six")]
    pub price_decimals: u8,
    /// Digits after the point of volumes in a Parquet file.
    #[serde(default)]
    pub volume_decimals: u8,
}

fn six() -> u8 {
    6
}

/// What files are cut by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cut {
    /// A file for each venue.
    Venue,
    /// A file for each instrument.
    Instrument,
    /// A file for each month of trade dates.
    Month,
    /// A file for each trade date.
    Date,
}

impl Cut {
    /// Its word, in configuration files and, in braces, in the names of files.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Cut::Venue => "venue",
            Cut::Instrument => "instrument",
            Cut::Month => "month",
            Cut::Date => "date",
        }
    }
}

/// The folder of an edition that holds what it says of itself.
pub const ABOUT: &str = "about";

impl FileSpec {
    /// What is wrong with it by itself.
    fn problems(&self) -> Vec<String> {
        let (name, mut wrong) = (&self.name, vec![]);
        let sound = |part: &str| !part.is_empty() && !part.starts_with('.') && part.chars().all(is_sound);
        if !name.split('/').all(sound) {
            wrong.push(format!("`{name}` cannot be a file's name; a path of letters, digits, - _ . = and braces, as closes/{{month}}.csv"));
        }
        if name.split('/').next() == Some(ABOUT) || !name.contains('.') && !name.contains('/') {
            wrong.push(format!("`{name}` cannot be a file's name; the folder {ABOUT} is the edition's own, and a file needs an ending"));
        }
        for cut in &self.cut {
            if !name.contains(&format!("{{{}}}", cut.word())) {
                wrong.push(format!(
                    "`{name}` is cut by {0} and does not name it; write {{{0}}} into it, or files would share a name",
                    cut.word()
                ));
            }
        }
        let mut places = name.split('{').skip(1).map(|rest| rest.split_once('}').map(|(place, _)| place));
        if let Some(place) = places.find(|place| !place.is_some_and(|p| self.cut.iter().any(|cut| cut.word() == p))) {
            wrong.push(format!("`{name}`: {{{}}} is nothing it is cut by", place.unwrap_or_default()));
        }
        if self.cut.windows(2).any(|w| w[0] >= w[1]) || self.cut.ends_with(&[Cut::Month, Cut::Date]) {
            wrong.push("cut: by venue, then instrument, then month or date".to_owned());
        }
        if self.price_decimals > 12 || self.volume_decimals > 12 {
            wrong.push("price_decimals and volume_decimals are at most 12".to_owned());
        }
        wrong
    }
}

fn is_sound(c: char) -> bool {
    c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '=' | '{' | '}')
}

impl Edition {
    pub(crate) fn parse(file: &Path, toml: &str) -> Result<Edition, Vec<Problem>> {
        let mut read: Edition = problem::toml(file, toml)?;
        read.name = text::stem(file);
        if read.title.is_empty() {
            read.title = read.name.clone();
        }
        let mut wrong: Vec<String> = read.files.iter().flat_map(FileSpec::problems).collect();
        if !text::is_name(&read.name) {
            wrong.push(format!("`{}` cannot be an edition's name; call the file by letters, digits and hyphens", read.name));
        }
        if let Some(table) = &read.table {
            wrong.extend(table.problems());
            read.files.extend(table.files());
        }
        if read.files.is_empty() {
            wrong.push("it has no files; write one or more [[file]], or a [table]".to_owned());
        }
        let is_own = |name: &String| read.files.iter().any(|f| f.own.is_some() && f.question == *name);
        if let Some(file) = read.files.iter().find(|f| f.own.is_none() && is_own(&f.question)) {
            wrong.push(format!("{}: a question of the table is called {}; save yours under another name", file.name, file.question));
        }
        let mut names: Vec<&str> = read.files.iter().map(|f| f.name.as_str()).collect();
        names.sort_unstable();
        if let Some(twice) = names.windows(2).find(|w| w[0] == w[1]) {
            wrong.push(format!("the name {} stands twice", twice[0]));
        }
        if read.holds.completeness.is_some_and(|percent| !(0.0..=100.0).contains(&percent)) {
            wrong.push("completeness: a share in percent is from 0 to 100".to_owned());
        }
        wrong.extend(read.publish.iter().flat_map(Publish::problems));
        if read.keep == Some(0) {
            wrong.push("keep: at least the newest one is kept".to_owned());
        }
        if wrong.is_empty() { Ok(read) } else { Err(wrong.into_iter().map(|what| Problem::whole(file, what)).collect()) }
    }

    /// Reads a spec that was sound once.
    ///
    /// # Errors
    /// What of it is a problem today.
    pub fn of(name: &str, toml: &str) -> Result<Edition, Problems> {
        Edition::parse(&Path::new("editions").join(format!("{name}.toml")), toml).map_err(Problems)
    }

    /// When it is made, in a few words.
    #[must_use]
    pub fn when(&self) -> String {
        let Some(Due { every, first, when }) = &self.made else { return "when asked".to_owned() };
        let at = match when {
            When::At(at) => format!("at {} on the clock of {}", at.strftime("%H:%M"), self.venue),
            When::AfterClose(delay) => format!("{} minutes after the close of {}", delay / 60_000_000, self.venue),
        };
        let session = match (every, first) {
            (Every::Day, _) => "each session",
            (Every::Week, true) => "the first session of each week",
            (Every::Week, false) => "the last session of each week",
            (Every::Month, true) => "the first session of each month",
            (Every::Month, false) => "the last session of each month",
        };
        format!("on {session}, {at}")
    }
}

impl Config {
    /// What is wrong with what editions say of venues. Their questions are checked by whoever reads questions.
    pub(crate) fn check_editions(&self) -> Vec<Problem> {
        let file = |edition: &Edition| Path::new("editions").join(format!("{}.toml", edition.name));
        let mut out = vec![];
        for edition in self.editions.values() {
            if !self.venues.contains_key(&edition.venue) {
                out.push(Problem::whole(&file(edition), format!("there is no venue {}; {}", edition.venue, known(self.venues.keys()))));
            }
            for name in edition.table.iter().flat_map(|t| &t.universes).filter(|name| !self.universes.contains_key(*name)) {
                let what = format!("table.universes: there is no universe {name}; {}", known(self.universes.keys()));
                out.push(Problem::whole(&file(edition), what));
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Edition, Vec<String>> {
        let read = Edition::parse(Path::new("editions/monthly.toml"), text);
        read.map_err(|problems| problems.into_iter().map(|p| p.to_string()).collect())
    }

    #[test]
    fn a_file_says_what_it_is_cut_by_and_when_it_is_made() {
        let text = "venue = \"ALDX\"\n[made]\nevery = \"month\"\nsession = \"first\"\nat = \"06:00\"\n[[file]]\nname = \"closes/{month}.csv\"\n\
                    question = \"closes\"\ncut = [\"month\"]\n";
        let read = read(text).unwrap();
        assert_eq!(read.when(), "on the first session of each month, at 06:00 on the clock of ALDX");
        assert_eq!((read.files[0].cut.as_slice(), read.name.as_str(), read.files[0].price_decimals), (&[Cut::Month][..], "monthly", 6));
    }

    #[test]
    fn what_would_collide_or_leave_its_folder_is_refused_with_the_way_out() {
        let file =
            |name: &str, cut: &str| read(&format!("venue = \"ALDX\"\n[[file]]\nname = \"{name}\"\nquestion = \"q\"\ncut = [{cut}]\n"));
        let told = |name: &str, cut: &str| file(name, cut).unwrap_err().join("\n");
        assert!(told("closes.csv", "\"month\"").contains("write {month} into it"));
        assert!(told("{month}.csv", "").contains("{month} is nothing it is cut by"));
        assert!(told("../up.csv", "").contains("cannot be a file's name"));
        assert!(told("/etc/up.csv", "").contains("cannot be a file's name"));
        assert!(told("about/mine.csv", "").contains("the folder about is the edition's own"));
        assert!(told("{month}{instrument}.csv", "\"month\", \"instrument\"").contains("by venue, then instrument"));
        assert!(file("a/{instrument}/{date}.csv", "\"instrument\", \"date\"").is_ok());
        assert!(read("venue = \"ALDX\"\nfile = []\n").unwrap_err()[0].contains("has no files"));
        let due = "venue = \"ALDX\"\n[made]\nevery = \"month\"\nat = \"06:00\"\n[[file]]\nname = \"a.csv\"\nquestion = \"q\"\n";
        assert!(read(due).unwrap_err()[0].contains("`first` or the `last` session"));
    }
}
