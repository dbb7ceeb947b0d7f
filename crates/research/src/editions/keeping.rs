//! Editions that are there: held against each other, pinned, withdrawn, and taken away by policy.

use super::{Recipe, SUMS};
use crate::{
    Research,
    answer::batch::{Cells, Kind},
    question::{Layout, Missing, Question},
};
use mizuno_core::Timestamp;
use mizuno_desk::DeskError;
use mizuno_store::editions::{By, EditionRow, FileRow, State};
use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    sync::Arc,
};

/// What differs between two editions.
#[derive(Clone, Debug, Default)]
pub struct Difference {
    /// Files that only the second has.
    pub new: Vec<FileRow>,
    /// Files that only the first has.
    pub gone: Vec<FileRow>,
    /// Files of both with other bytes, as they are in the second.
    pub changed: Vec<FileRow>,
    /// How many are the same.
    pub same: u64,
    /// Questions that are asked otherwise.
    pub asked_otherwise: Vec<String>,
    /// Questions of the second, for asking what changed in their bars.
    pub questions: Vec<(String, Question)>,
}

impl Research {
    /// What differs between two editions of a spec.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn edition_difference(&self, old: &EditionRow, new: &EditionRow) -> Result<Difference, DeskError> {
        let [before, after] = [self.desk.store.edition_files(old.id).await?, self.desk.store.edition_files(new.id).await?];
        let known: BTreeMap<&str, &FileRow> = before.iter().map(|f| (f.path.as_str(), f)).collect();
        let there: BTreeSet<&str> = after.iter().map(|f| f.path.as_str()).collect();
        let mut out =
            Difference { gone: before.iter().filter(|f| !there.contains(f.path.as_str())).cloned().collect(), ..Difference::default() };
        for file in after.iter().filter(|f| f.path != SUMS) {
            match known.get(file.path.as_str()) {
                None => out.new.push(file.clone()),
                Some(same) if same.digest == file.digest => out.same += 1,
                Some(_) => out.changed.push(file.clone()),
            }
        }
        let (then, now) = (Recipe::read(old)?, Recipe::read(new)?);
        let edition = now.edition()?;
        let mut seen = BTreeSet::new();
        for file in edition.files.iter().filter(|file| seen.insert(file.question.clone())) {
            if then.questions.get(&file.question) != now.questions.get(&file.question) {
                out.asked_otherwise.push(file.question.clone());
            }
            out.questions.push((file.question.clone(), now.question(file)?));
        }
        Ok(out)
    }

    /// Keeps an edition from expiring, or lets it.
    ///
    /// # Errors
    /// When a name or a reason is missing.
    pub async fn pin_edition(&self, row: &EditionRow, pinned: Option<(String, String)>) -> Result<(), DeskError> {
        if let Some((by, why)) = &pinned {
            named(by, why)?;
        }
        self.desk.store.pin_edition(row.id, pinned).await?;
        self.desk.events.tell(mizuno_desk::Event::Editions);
        Ok(())
    }

    /// Withdraws an edition: nobody is served its files any more, and whoever asks for them reads why.
    ///
    /// # Errors
    /// When a name or a reason is missing, or it is withdrawn already.
    pub async fn withdraw_edition(&self, row: &EditionRow, by: &str, why: &str) -> Result<(), DeskError> {
        named(by, why)?;
        if let Some((by, why, at)) = &row.withdrawn {
            return Err(DeskError::Over(format!("{}/{} was withdrawn by {by} on {at}: {why}", row.spec, row.number)));
        }
        self.desk.store.withdraw_edition(row.id, by.trim().to_owned(), why.trim().to_owned()).await?;
        self.desk.events.tell(mizuno_desk::Event::Editions);
        Ok(())
    }

    /// Takes away the files of editions that are no longer kept, or with `preview` only says which. Those that are pinned stay.
    ///
    /// # Errors
    /// When they cannot be taken away.
    pub async fn expire_by_policy(&self, spec: &str, preview: bool) -> Result<Vec<EditionRow>, DeskError> {
        let setup = self.desk.setup();
        let Some(keep) = setup.config.editions.get(spec).and_then(|spec| spec.keep) else { return Ok(vec![]) };
        let rows = self.desk.store.editions(Some(spec)).await?;
        let made = rows.into_iter().filter(|row| row.state == State::Made);
        let old: Vec<EditionRow> = made.skip(keep as usize).filter(|row| row.pinned.is_none()).collect();
        if preview {
            return Ok(old);
        }
        let _turn = self.at_work.turn.lock().await;
        for row in &old {
            self.desk.store.expire_edition(row.id).await?;
            self.take_away_files(row)?;
        }
        if !old.is_empty() {
            self.desk.events.tell(mizuno_desk::Event::Editions);
        }
        Ok(old)
    }

    /// Takes away what a process left that was killed: folders of what was being made, verified or taken away, and files of editions that have
    /// expired. What is under way stays.
    ///
    /// # Errors
    /// When the store or the disk cannot be read.
    pub(super) async fn tidy_up(&self) -> Result<(), DeskError> {
        let _turn = self.at_work.turn.lock().await;
        let mut stay = BTreeSet::new();
        for id in self.desk.store.editions_under_way().await? {
            stay.extend(self.desk.store.edition(By::Id(id)).await?.map(|row| self.making_folder(&row)));
        }
        let left = std::fs::read_dir(self.editions_folder().join(".making")).into_iter().flatten().flatten().map(|entry| entry.path());
        for folder in left.filter(|folder| folder.is_dir() && !stay.contains(folder)) {
            tracing::info!(folder = %folder.display(), "taking away what was left when the service was killed");
            std::fs::remove_dir_all(&folder).map_err(|e| DeskError::file(&folder, e))?;
        }
        for row in self.desk.store.editions(None).await?.iter().filter(|row| row.state == State::Expired) {
            self.take_away_files(row)?;
        }
        Ok(())
    }

    fn take_away_files(&self, row: &EditionRow) -> Result<(), DeskError> {
        let folder = self.edition_folder(row);
        // Nobody is to see half of it: it gets another name first.
        let gone = self.editions_folder().join(".making").join(format!("{}-{}-gone", row.spec, row.number));
        take_away(&folder, &gone).map_err(|e| DeskError::file(&folder, e))
    }

    /// The instant that the changes of an edition refer to, if there is one before it.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn edition_before(&self, row: &EditionRow) -> Result<Option<EditionRow>, DeskError> {
        let Some(before) = row.before else { return Ok(None) };
        Ok(self.desk.store.edition(By::Id(before)).await?)
    }
}

/// Rows of a question that changed in one way for one cause.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changed {
    /// The question.
    pub question: String,
    /// What happened to them: `new`, `changed` or `gone`.
    pub change: String,
    /// Why.
    pub cause: String,
    /// How many.
    pub rows: u64,
    /// In how many of them each column is another; of rows that changed.
    pub columns: BTreeMap<String, u64>,
}

impl Research {
    /// What changed in the bars of a question between two instants, counted.
    ///
    /// # Errors
    /// When the question cannot be asked, or the store cannot be read.
    pub async fn changed_between(
        self: &Arc<Self>,
        name: &str,
        question: &Question,
        then: Timestamp,
        now: Timestamp,
    ) -> Result<Vec<Changed>, DeskError> {
        if then >= now || question.shape.layout == Layout::Latest || question.shape.missing == Missing::Carried {
            return Ok(vec![]);
        }
        let question = Question { as_of: Some(now), since: Some(then), ..question.clone() };
        let draft = self.draft(self.resolve(question.clone()).await?).await?;
        let mut answer = draft.changes(self.draft_then(&question, then).await?, false).await?;
        let words = |at: usize| match &answer.headings[at].kind {
            Kind::Words(words) => words.clone(),
            _ => Arc::default(),
        };
        let (changes, causes) = (words(0), words(1));
        // Each value stands beside what it was, under the same name with `old_` before it.
        let place = |name: &str| answer.headings.iter().position(|h| h.name == name);
        let pairs: Vec<(String, usize, usize)> =
            answer.headings.iter().filter_map(|h| Some((h.name.clone(), place(&h.name)?, place(&format!("old_{}", h.name))?))).collect();
        let mut out: BTreeMap<(u32, u32), Changed> = BTreeMap::new();
        while let Some(batch) = answer.next().await? {
            let (Cells::Words(change), Cells::Words(cause)) = (&batch.columns[0], &batch.columns[1]) else { continue };
            for row in 0..batch.rows {
                let (Some(change), Some(cause)) = (change[row], cause[row]) else { continue };
                let entry = out.entry((change, cause)).or_insert_with(|| Changed {
                    question: name.to_owned(),
                    change: changes[change as usize].clone(),
                    cause: causes[cause as usize].clone(),
                    ..Changed::default()
                });
                entry.rows += 1;
                if entry.change == "changed" {
                    let others = pairs.iter().filter(|(_, new, old)| !batch.columns[*new].same(&batch.columns[*old], row));
                    others.for_each(|(name, ..)| *entry.columns.entry(name.clone()).or_default() += 1);
                }
            }
        }
        Ok(out.into_values().collect())
    }
}

fn named(by: &str, why: &str) -> Result<(), DeskError> {
    match by.trim().is_empty() || why.trim().is_empty() {
        true => Err(DeskError::Invalid("it needs a name (`by`) and a reason (`why`); others will ask".to_owned())),
        false => Ok(()),
    }
}

fn take_away(folder: &Path, gone: &Path) -> std::io::Result<()> {
    if !folder.exists() {
        return Ok(());
    }
    if let Some(parent) = gone.parent() {
        std::fs::create_dir_all(parent)?;
    }
    std::fs::rename(folder, gone)?;
    std::fs::remove_dir_all(gone)
}
