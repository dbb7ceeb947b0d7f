//! Editions under way: begun, taken up again after a kill, put in their place, and ended.

use super::{Progress, Recipe, SUMS, Told, file::sync_names, making::Maker};
use crate::{Research, question::Question};
use mizuno_core::Timestamp;
use mizuno_desk::{DeskError, Event};
use mizuno_store::editions::{By, EditionRow, FileRow, NewEdition, State};
use std::{
    collections::HashMap,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
};

/// Why an edition is made.
#[derive(Clone, Debug)]
pub enum Why {
    /// It was due at a moment.
    Due(Timestamp),
    /// A person asked for it.
    Asked(String),
}

impl Research {
    /// Begins to make an edition, and hands back its record.
    ///
    /// # Errors
    /// When there is no such spec, one of its questions cannot be asked, or it is being made already.
    pub async fn make_edition(
        self: &Arc<Self>,
        spec: &str,
        why: Why,
        of: Option<(Recipe, Timestamp)>,
        remark: Option<String>,
    ) -> Result<Told, DeskError> {
        let setup = self.desk.setup();
        let described = self.edition_spec(&setup, spec)?;
        let (recipe, instant) = match of {
            Some(of) => of,
            None => (self.recipe(&setup, described).await?, self.edition_instant().await?),
        };
        // What cannot be asked is refused here, where somebody reads the answer.
        let edition = recipe.edition()?;
        for file in &edition.files {
            let question = recipe.question(file).map_err(|e| DeskError::Invalid(format!("{}: {e}", file.name)))?;
            self.resolve(Question { as_of: Some(instant), ..question }).await?;
        }
        let before = self.desk.store.editions(Some(spec)).await?.into_iter().find(|row| matches!(row.state, State::Made | State::Expired));
        let (due, asked_by) = match why {
            Why::Due(due) => (Some(due), None),
            Why::Asked(by) => (None, Some(by)),
        };
        let new = NewEdition {
            spec: spec.to_owned(),
            label: Self::label(&setup, described, due.unwrap_or(instant)),
            instant,
            before: before.map(|row| row.id),
            recipe: serde_json::to_string(&recipe).map_err(|e| DeskError::fault("writing a recipe", e))?,
            program: super::PROGRAM.to_owned(),
            due,
            asked_by,
            remark,
        };
        let _beginning = self.at_work.beginning.lock().await;
        let id = self.desk.store.begin_edition(new).await?;
        let id = id.ok_or_else(|| DeskError::Over(format!("{spec} is being made already; watch it, wait for it, or cancel it")))?;
        self.work_on(id).await
    }

    /// The instant of an edition that is made now: of the clock and not of the newest commit, since what is due is counted from it.
    pub(super) async fn edition_instant(&self) -> Result<Timestamp, DeskError> {
        self.desk.pinned("as_of", Some(&self.desk.clock.now().to_string())).await
    }

    /// Goes on with the editions that a process left when it ended, or whose end could not be written down.
    pub(super) async fn take_up_editions(self: &Arc<Self>) -> Result<(), DeskError> {
        if self.desk.store.stopped_writing().is_some() {
            return Ok(());
        }
        let _beginning = self.at_work.beginning.lock().await;
        for id in self.desk.store.editions_under_way().await? {
            let at_work = self.at_work.making.lock().unwrap_or_else(PoisonError::into_inner).contains_key(&id);
            if !at_work {
                self.work_on(id).await?;
            }
        }
        Ok(())
    }

    async fn work_on(self: &Arc<Self>, id: i64) -> Result<Told, DeskError> {
        let unknown = || DeskError::Over("it is there no longer".to_owned());
        let row = self.desk.store.edition(By::Id(id)).await?.ok_or_else(unknown)?;
        let progress = Arc::new(Progress { stopping: self.at_work.stopping.clone(), ..Progress::default() });
        self.at_work.making.lock().unwrap_or_else(PoisonError::into_inner).insert(id, progress.clone());
        self.desk.events.tell(Event::Editions);
        let (research, working, on) = (self.clone(), row.clone(), progress.clone());
        self.desk.hands.long(move || async move {
            let turn = research.at_work.turn.lock().await;
            let made = match on.is_stopping() {
                true => Err(DeskError::Stopping),
                false => research.make_files(&working, on.clone()).await,
            };
            let ended = match made {
                Ok(sums) => research.desk.store.end_edition(id, State::Made, Some(sums), None).await,
                Err(_) if on.is_cancelled() => {
                    let _ = std::fs::remove_dir_all(research.making_folder(&working));
                    research.desk.store.end_edition(id, State::Cancelled, None, None).await
                }
                Err(_) if on.is_stopping() => {
                    tracing::info!(edition = %format!("{}/{}", working.spec, working.number), "an edition goes on when the service is back");
                    return;
                }
                Err(error) => {
                    tracing::warn!(edition = %format!("{}/{}", working.spec, working.number), %error, "an edition could not be made");
                    let _ = std::fs::remove_dir_all(research.making_folder(&working));
                    research.desk.store.end_edition(id, State::Failed, None, Some(error.to_string())).await
                }
            };
            drop(turn);
            if let Err(error) = ended {
                tracing::error!(%error, "how an edition ended cannot be kept; it is taken up again at the next start");
            }
            research.at_work.making.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
            research.desk.events.tell(Event::Editions);
            if let Err(error) = research.expire_by_policy(&working.spec, false).await {
                tracing::warn!(%error, "editions that are no longer kept cannot be taken away");
            }
        });
        Ok(Told { row, progress: Some(progress) })
    }

    /// Where an edition is made.
    pub(super) fn making_folder(&self, row: &EditionRow) -> PathBuf {
        self.editions_folder().join(".making").join(format!("{}-{}", row.spec, row.number))
    }

    /// Makes all files of an edition and puts them in their place; the digest of its sums.
    async fn make_files(self: &Arc<Self>, row: &EditionRow, progress: Arc<Progress>) -> Result<String, DeskError> {
        let (folder, place) = (self.making_folder(row), self.edition_folder(row));
        let kept: HashMap<String, FileRow> =
            self.desk.store.edition_files(row.id).await?.into_iter().map(|file| (file.path.clone(), file)).collect();
        // Killed between the last step and its record: what is in its place is whole.
        if !folder.exists() && kept.contains_key(SUMS) && place.join(SUMS).exists() {
            return Ok(kept[SUMS].digest.clone());
        }
        let (since, before) = match self.edition_before(row).await? {
            None => (None, None),
            Some(before) => {
                let files = self.desk.store.edition_files(before.id).await?;
                let there = before.state == State::Made;
                let files = files.into_iter().map(|file| (file.path.clone(), file)).collect();
                (Some(before.instant), there.then(|| (self.edition_folder(&before), files)))
            }
        };
        let maker = Maker {
            research: self.clone(),
            recipe: Recipe::read(row)?,
            instant: row.instant,
            since,
            before,
            folder: folder.clone(),
            kept: Some((row.id, kept)),
            waiting: Mutex::default(),
            progress: progress.clone(),
        };
        let made = maker.make().await;
        if progress.is_stopping() {
            // They are on the disk, and need not be made again.
            maker.keep_waiting().await?;
        }
        let made = made?;
        let done = || {
            sync_names(&folder)?;
            // Only a database that was made anew can have left a folder of this number.
            if place.exists() {
                std::fs::remove_dir_all(&place)?;
            }
            let parent = place.parent().unwrap_or(&place);
            std::fs::create_dir_all(parent)?;
            std::fs::rename(&folder, &place)?;
            std::fs::File::open(parent)?.sync_all()
        };
        done().map_err(|e| DeskError::file(&place, e))?;
        Ok(made.sums)
    }
}
