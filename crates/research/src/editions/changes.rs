//! What changed in the answers of an edition since the edition before: a file for each of its questions.

use super::{
    GivenUp,
    cutting::Cutting,
    file::Written,
    making::{Maker, fill, fitting, room, style},
    package::Told,
};
use crate::{
    Research,
    answer::Draft,
    question::{File, Format, Layout, Missing, Question},
};
use mizuno_config::Edition;
use mizuno_core::{Timestamp, bar::Digits};
use mizuno_desk::DeskError;
use mizuno_store::editions::FileRow;
use std::{
    collections::{BTreeMap, VecDeque},
    sync::Arc,
};
use tokio::task::JoinHandle;

/// What an answer was.
type Was = JoinHandle<Result<Draft, DeskError>>;

/// Questions whose changes are told, each by its name.
pub(super) struct Then {
    questions: VecDeque<(String, Question)>,
    /// The instant of the edition before.
    since: Timestamp,
    /// What the answer to the first of them was: a thread of its own finds it out.
    first: Option<Was>,
}

impl Then {
    /// Takes the first of them, and begins with the one behind it.
    fn next(&mut self, research: &Arc<Research>) -> Option<(String, Question, Was)> {
        let (name, question) = self.questions.pop_front()?;
        let first = self.first.take()?;
        self.begin(research);
        Some((name, question, first))
    }

    fn begin(&mut self, research: &Arc<Research>) {
        self.first = self.questions.front().map(|(_, question)| {
            let (research, question, since) = (research.clone(), question.clone(), self.since);
            research.clone().desk.hands.long(move || async move { research.draft_then(&question, since).await })
        });
    }
}

impl Maker {
    /// Begins to find out what the answers were. That takes as long as what they are now, and needs nothing of it.
    pub(super) fn what_was(&self, edition: &Edition) -> Result<Then, DeskError> {
        let mut questions = BTreeMap::new();
        for file in edition.files.iter().filter(|_| self.since.is_some_and(|since| since < self.instant)) {
            let question = self.recipe.question(file)?;
            if question.shape.layout == Layout::Latest || question.shape.missing == Missing::Carried {
                continue;
            }
            // For whoever reads the files, in the form they read them in.
            let form = match question.file {
                File { format: Format::Parquet, floats, .. } => File { format: Format::Parquet, floats, ..File::default() },
                _ => File::default(),
            };
            questions.insert(file.question.clone(), Question { as_of: Some(self.instant), since: self.since, file: form, ..question });
        }
        let mut then = Then { questions: questions.into_iter().collect(), since: self.since.unwrap_or(self.instant), first: None };
        then.begin(&self.research);
        Ok(then)
    }

    /// Tells what changed, each question's in a file.
    pub(super) async fn all_changes(&self, mut then: Then, cuttings: &[Arc<Cutting>]) -> Result<Vec<Told>, GivenUp> {
        let mut out = vec![];
        while let Some((name, question, was)) = then.next(&self.research) {
            let files = cuttings.iter().filter(|cutting| cutting.spec.question == name);
            let room = files.filter_map(|cutting| room(cutting)).max_by_key(|(price, volume)| price.scale + volume.scale);
            let told = match was.await {
                Ok(Ok(was)) => self.changes(&name, question, was, room).await,
                Ok(Err(error)) => Err(error),
                Err(error) => Err(DeskError::fault("finding out what was", error)),
            };
            out.push(told.map_err(|error| self.progress.give_up(error))?);
        }
        Ok(out)
    }

    async fn changes(&self, name: &str, question: Question, was: Draft, room: Option<(Digits, Digits)>) -> Result<Told, DeskError> {
        self.stopped()?;
        let research = &self.research;
        let (style, file, stamp) = (style(&question), question.file, question.shape.stamp.clone());
        let now = research.draft(research.resolve(question.clone()).await?).await?;
        let answer = now.changes_with(was, room).await?;
        let path = format!("{}/changes-{name}.{}", mizuno_config::edition::ABOUT, file.format.word());
        let headings = answer.headings.clone();
        if let Some(row) = self.is_there(&path) {
            return Ok(Told { row, file, stamp, headings });
        }
        let (written, progress) = (Written::begin(&self.folder, &path)?, self.progress.clone());
        let check = fitting(path.clone(), &question);
        let (sum, bytes, rows) = self.on_hands(async move { fill(answer, style, written, &progress, check).await }).await?;
        let row = FileRow { path, digest: sum, bytes: bytes as i64, rows, made_of: String::new(), linked: false };
        Ok(Told { row: self.same_or_new(row).await?, file, stamp, headings })
    }
}
