//! Editions: immutable, numbered sets of files made from saved questions.
//!
//! * [`job`]: editions under way. `cutting`: a question cut into the answers of its files; `making`: files as they are made; `file`: one file on its
//!   way to the disk. `contents`: what an edition says of itself; `changes`: what differs from the edition before; `beside`: what lies beside its table of bars; `package`, `page`: the same for programs and for people.
//! * [`due`]: when one is made, and what must hold before; [`keeping`]: held against another, pinned, withdrawn, taken away; [`verifying`]: held against their sums, or
//!   made again (`alike`: whether other bytes say the same); `publishing`: in object storage.
//!
//! An edition follows from its [`Recipe`] and its instant alone. No byte of its files follows from when, where or how fast it was made.

mod alike;
pub(crate) mod beside;
mod changes;
mod contents;
mod coverage;
mod cutting;
pub mod due;
mod file;
pub mod job;
pub mod keeping;
mod making;
mod package;
mod page;
mod publishing;
mod storage;
mod table;
pub mod verifying;

use crate::{
    Research,
    question::{Format, Question, given::Given},
};
use mizuno_config::{Config, Edition, edition::FileSpec};
use mizuno_core::Timestamp;
use mizuno_desk::{DeskError, Setup};
use mizuno_store::editions::{By, EditionRow, FileRow};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, HashMap},
    path::PathBuf,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::Duration,
};

/// The file of sums, as `sha256sum -c` reads it.
pub const SUMS: &str = "SHA256SUMS";
/// What an edition is, as a Frictionless data package.
pub const PACKAGE: &str = "datapackage.json";
/// The same as a page.
pub const PAGE: &str = "index.html";
/// The version of the program.
pub const PROGRAM: &str = env!("CARGO_PKG_VERSION");

/// All that an edition follows from besides its instant: the texts of its spec and its questions, as they were.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// The name of the spec.
    pub name: String,
    /// Its text.
    pub spec: String,
    /// The text of each question, by its name.
    pub questions: BTreeMap<String, String>,
}

impl Recipe {
    pub(crate) fn read(row: &EditionRow) -> Result<Recipe, DeskError> {
        serde_json::from_str(&row.recipe).map_err(DeskError::unreadable)
    }

    pub(crate) fn edition(&self) -> Result<Edition, DeskError> {
        Edition::of(&self.name, &self.spec)
            .map_err(|source| DeskError::Configuration { what: format!("the edition {}", self.name), source })
    }

    /// The question of a file.
    pub(crate) fn question(&self, file: &FileSpec) -> Result<Question, DeskError> {
        let text = self.questions.get(&file.question).map_or("", String::as_str);
        question_of(file, text).map_err(|problems| DeskError::Invalid(problems.join("; ")))
    }
}

/// The question of a file, in the format of the file; or everything that is wrong with it.
fn question_of(file: &FileSpec, text: &str) -> Result<Question, Vec<String>> {
    let mut question = Given::from_toml(text).map_err(|e| vec![e]).and_then(Question::read)?;
    let mut wrong = vec![];
    if let Some(word) = &file.format {
        match Format::ALL.into_iter().find(|format| format.word() == word) {
            Some(format) => question.file.format = format,
            None => wrong.push(format!("format: `{word}` is none of {}", Format::ALL.map(Format::word).join(", "))),
        }
    }
    if question.as_of.is_some() || question.since.is_some() {
        wrong.push("an edition stands for its own instant; leave as_of and since out of its question".to_owned());
    }
    let by_time = file.cut.iter().any(|cut| matches!(cut, mizuno_config::edition::Cut::Month | mizuno_config::edition::Cut::Date));
    if by_time && question.longer.is_some() {
        wrong.push("cut: weeks and longer may lie in two months; cut by instrument or venue".to_owned());
    }
    if by_time && (question.shape.picking.keep.is_some() || question.shape.layout == crate::question::Layout::Latest) {
        wrong.push(
            "cut: only some rows of each instrument are asked for, and cut by time they would be others; cut by instrument or venue"
                .to_owned(),
        );
    }
    if question.fit.is_some() {
        wrong.push("fit: how many rows fit is a matter of pictures; say an interval".to_owned());
    }
    if wrong.is_empty() { Ok(question) } else { Err(wrong) }
}

/// What is wrong with the editions of a configuration, each with its file. A question that is not among its files may be saved by a
/// researcher; it is looked for when the edition is made.
#[must_use]
pub fn problems(config: &Config) -> Vec<String> {
    let mut out = vec![];
    for edition in config.editions.values() {
        for file in &edition.files {
            let Some(text) = file.own.as_ref().or_else(|| config.questions.get(&file.question)) else { continue };
            let told = question_of(file, text).err().unwrap_or_default();
            out.extend(told.into_iter().map(|p| format!("editions/{}.toml: {}: {p}", edition.name, file.name)));
        }
    }
    out
}

/// How long the end of the service waits for the step that an edition is at.
const LAST_STEP: Duration = Duration::from_secs(10);

/// How far an edition that is being made has come.
#[derive(Default)]
pub struct Progress {
    /// Files there will be; nought until that is known.
    pub files: AtomicU64,
    /// Files that are there.
    pub done: AtomicU64,
    /// Of these, taken from the edition before.
    pub linked: AtomicU64,
    /// Rows written.
    pub rows: AtomicU64,
    /// Bytes written.
    pub bytes: AtomicU64,
    cancelled: AtomicBool,
    /// The service is ending: it goes on when that is back. One for all that is at work.
    stopping: Arc<AtomicBool>,
    /// Why a file of it could not be made, so that no other need be; the first that went wrong.
    given_up: Mutex<Option<DeskError>>,
}

/// An edition is given up; its progress knows why.
struct GivenUp;

impl Progress {
    fn add(counter: &AtomicU64, n: u64) {
        counter.fetch_add(n, Ordering::Relaxed);
    }

    fn give_up(&self, why: DeskError) -> GivenUp {
        self.given_up.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(why);
        GivenUp
    }

    fn is_given_up(&self) -> bool {
        self.given_up.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    /// Why it was given up.
    fn failure(&self) -> DeskError {
        let why = self.given_up.lock().unwrap_or_else(PoisonError::into_inner).take();
        why.unwrap_or_else(|| DeskError::Over("it was given up".to_owned()))
    }

    fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }

    fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::SeqCst)
    }
}

/// What is at work.
#[derive(Default)]
pub(crate) struct AtWork {
    /// The service is ending.
    stopping: Arc<AtomicBool>,
    /// Editions under way, by their ids.
    making: Mutex<HashMap<i64, Arc<Progress>>>,
    /// What holds up editions that are due, by their specs.
    held_up: Mutex<BTreeMap<String, due::HeldUp>>,
    /// The newest commit when each of them was last looked at, and until when it is then left alone.
    looked: Mutex<BTreeMap<String, (Timestamp, std::time::Instant)>>,
    /// For which moment each was made, or given up, last: it is not looked for again.
    settled: Mutex<BTreeMap<String, Timestamp>>,
    /// How the last attempt to publish ended, by specs; those that went well are not kept.
    attempts: Mutex<BTreeMap<String, publishing::Attempt>>,
    /// What is on its way to object storage, by specs.
    sending: Mutex<BTreeMap<String, tokio::task::JoinHandle<()>>>,
    /// When it was first looked what is due.
    began: std::sync::OnceLock<Timestamp>,
    /// Held between the record of an edition and its beginning: what has a record and is not at work was left by a process that ended.
    beginning: tokio::sync::Mutex<()>,
    /// Held while files are made, verified or taken away: none of these meets another.
    turn: tokio::sync::Mutex<()>,
}

/// An edition with what is known of it.
pub struct Told {
    /// Its record.
    pub row: EditionRow,
    /// How far it is, while it is being made.
    pub progress: Option<Arc<Progress>>,
}

impl Research {
    /// Editions of one spec or of every one, newest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn editions(&self, spec: Option<&str>) -> Result<Vec<Told>, DeskError> {
        let rows = self.desk.store.editions(spec).await?;
        let making = self.at_work.making.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(rows.into_iter().map(|row| Told { progress: making.get(&row.id).cloned(), row }).collect())
    }

    /// The edition that a person means by `which`: its number, its label, of which the newest that is served counts, or `latest`.
    ///
    /// # Errors
    /// When there is none.
    pub async fn edition(&self, spec: &str, which: &str) -> Result<Told, DeskError> {
        let number = which.parse::<i64>().ok();
        let by = match (which, number) {
            ("latest", _) => By::Newest(spec),
            (_, Some(number)) => By::Number(spec, number),
            (label, None) => By::Label(spec, label),
        };
        if let Some(row) = self.desk.store.edition(by).await? {
            let progress = self.at_work.making.lock().unwrap_or_else(PoisonError::into_inner).get(&row.id).cloned();
            return Ok(Told { row, progress });
        }
        let all = self.editions(Some(spec)).await?;
        if all.is_empty() && !self.desk.setup().config.editions.contains_key(spec) {
            let setup = self.desk.setup();
            return Err(DeskError::unknown("edition", spec, setup.config.editions.keys().map(String::as_str)));
        }
        let names: Vec<String> = all.iter().flat_map(|t| [t.row.number.to_string(), t.row.label.clone()]).collect();
        Err(match which {
            "latest" => DeskError::Unknown {
                kind: "edition",
                id: format!("{spec}/latest"),
                hint: "none is there yet that can be served".to_owned(),
                see: "editions",
            },
            _ => DeskError::unknown("edition", &format!("{spec}/{which}"), names.iter().map(String::as_str)),
        })
    }

    /// A file of an edition.
    ///
    /// # Errors
    /// When it has none of that name, or the store cannot be read.
    pub async fn edition_file(&self, row: &EditionRow, path: &str) -> Result<FileRow, DeskError> {
        match self.desk.store.edition_file(row.id, path).await? {
            Some(file) => Ok(file),
            None => {
                let files = self.edition_files(row).await?;
                Err(DeskError::unknown("file", path, files.iter().map(|f| f.path.as_str())))
            }
        }
    }

    /// The files of an edition.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn edition_files(&self, row: &EditionRow) -> Result<Vec<FileRow>, DeskError> {
        Ok(self.desk.store.edition_files(row.id).await?)
    }

    /// The folder of editions in the data directory.
    pub(crate) fn editions_folder(&self) -> PathBuf {
        self.desk.data().join("editions")
    }

    /// Where the files of an edition are.
    #[must_use]
    pub fn edition_folder(&self, row: &EditionRow) -> PathBuf {
        self.editions_folder().join(&row.spec).join(row.number.to_string())
    }

    /// The recipe of a spec as it is configured now.
    async fn recipe(&self, setup: &Setup, spec: &Edition) -> Result<Recipe, DeskError> {
        let mut questions = BTreeMap::new();
        for file in &spec.files {
            if let Some(own) = &file.own {
                questions.insert(file.question.clone(), own.clone());
                continue;
            }
            let newest = self.saved_under(setup, &file.question).await?.into_iter().next().and_then(|saved| saved.text);
            let text = newest.ok_or_else(|| {
                DeskError::Invalid(format!("{}: its question {} was taken away; save it again, or name another", spec.name, file.question))
            })?;
            questions.insert(file.question.clone(), text);
        }
        let text = setup.config.texts.0.get(&format!("editions/{}.toml", spec.name)).cloned().unwrap_or_default();
        Ok(Recipe { name: spec.name.clone(), spec: text, questions })
    }

    /// A spec of the configuration.
    fn edition_spec<'s>(&self, setup: &'s Setup, name: &str) -> Result<&'s Edition, DeskError> {
        let known = &setup.config.editions;
        known.get(name).ok_or_else(|| DeskError::unknown("edition", name, known.keys().map(String::as_str)))
    }

    /// Lets editions that are being made rest where they are, so that they go on when the service is back, and waits until they do. Whoever
    /// looks something up for long is not waited for.
    pub async fn stop(&self) {
        self.at_work.stopping.store(true, Ordering::SeqCst);
        let _ = tokio::time::timeout(LAST_STEP, self.at_work.turn.lock()).await;
    }

    fn is_stopping(&self) -> bool {
        self.at_work.stopping.load(Ordering::SeqCst)
    }

    /// Stops making an edition. What was made of it is taken away.
    ///
    /// # Errors
    /// When it is not being made.
    pub fn cancel_edition(&self, row: &EditionRow) -> Result<(), DeskError> {
        let making = self.at_work.making.lock().unwrap_or_else(PoisonError::into_inner);
        match making.get(&row.id) {
            Some(progress) => progress.cancelled.store(true, Ordering::Relaxed),
            None => return Err(DeskError::Over(format!("{}/{} is not being made; it is {}", row.spec, row.number, row.state.word()))),
        }
        Ok(())
    }
}

/// An instant to the second, as files and pages write it.
fn second(at: Timestamp) -> String {
    Timestamp(at.0 - at.0.rem_euclid(mizuno_core::time::SECOND)).to_string()
}
