//! Editions verified: their files held against their sums, and against what comes of making them again.

use super::{Progress, Recipe, SUMS, alike::says_the_same, file::sum_of, making::Maker};
use crate::Research;
use mizuno_desk::DeskError;
use mizuno_store::editions::{By, EditionRow, FileRow, State};
use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    sync::Arc,
};

/// What was found of an edition.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Verdict {
    /// Files that were looked at.
    pub files: u64,
    /// Files that are not as they were made, each with what is wrong.
    pub damaged: Vec<(String, String)>,
    /// Where it was made again: files that came out with other bytes, and whether they say the same.
    pub differ: Vec<(String, bool)>,
    /// Whether another version of the program made it.
    pub other_program: Option<String>,
}

impl Research {
    /// Holds the files of an edition against their sums, and if `again` makes it again from its record and holds that against them too.
    ///
    /// # Errors
    /// When it is not there, or it cannot be made again.
    pub async fn verify_edition(self: &Arc<Self>, row: &EditionRow, again: bool) -> Result<Verdict, DeskError> {
        if row.state != State::Made && !(again && row.state == State::Expired) {
            return Err(has_no_files(row));
        }
        // All of it on a thread of its own: it ends in good order whether or not somebody waits for it.
        let (research, row) = (self.clone(), row.clone());
        let verdict = self.desk.hands.long(move || async move { research.verify(&row, again).await });
        verdict.await.map_err(|e| DeskError::fault("verifying an edition", e))?
    }

    async fn verify(self: &Arc<Self>, row: &EditionRow, again: bool) -> Result<Verdict, DeskError> {
        let files = self.desk.store.edition_files(row.id).await?;
        let mut out = Verdict { files: files.len() as u64, ..Verdict::default() };
        if row.state == State::Made {
            out.damaged = damaged(&self.edition_folder(row), &files, || !self.is_stopping());
            let now = self.desk.store.edition(By::Id(row.id)).await?;
            if let Some(now) = now.filter(|now| now.state != State::Made && !out.damaged.is_empty()) {
                return Err(has_no_files(&now));
            }
        }
        if again {
            out.other_program = (row.program != super::PROGRAM).then(|| row.program.clone());
            // Only this takes the memory and the disk that making takes.
            let _turn = self.at_work.turn.lock().await;
            out.differ = self.made_again(row, &files).await?;
        }
        if self.is_stopping() { Err(DeskError::Stopping) } else { Ok(out) }
    }

    /// The files that come out with other bytes when an edition is made again from its record alone, and whether they say the same.
    async fn made_again(self: &Arc<Self>, row: &EditionRow, files: &[FileRow]) -> Result<Vec<(String, bool)>, DeskError> {
        let folder = self.editions_folder().join(".making").join(format!("{}-{}-again", row.spec, row.number));
        let since = self.edition_before(row).await?.map(|before| before.instant);
        let maker = Maker {
            research: self.clone(),
            recipe: Recipe::read(row)?,
            instant: row.instant,
            since,
            before: None,
            folder: folder.clone(),
            kept: None,
            waiting: std::sync::Mutex::default(),
            progress: Arc::new(Progress { stopping: self.at_work.stopping.clone(), ..Progress::default() }),
        };
        let sums = |files: &[FileRow]| -> BTreeMap<String, String> {
            files.iter().filter(|f| f.path != SUMS).map(|f| (f.path.clone(), f.digest.clone())).collect()
        };
        let made = maker.make().await;
        let differ = made.map(|made| {
            let (before, after) = (sums(files), sums(&made.rows));
            let all: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
            let differ = all.into_iter().filter(|path| before.get(*path) != after.get(*path));
            differ.map(|path| (path.clone(), says_the_same(path, &self.edition_folder(row), &folder))).collect()
        });
        let _ = std::fs::remove_dir_all(&folder);
        differ
    }
}

fn has_no_files(row: &EditionRow) -> DeskError {
    DeskError::Over(format!("{}/{} is {}, and has no files", row.spec, row.number, row.state.word()))
}

/// The files of a folder that are not as they were made, and those that nobody made; only some of them where it does not go on.
fn damaged(folder: &Path, files: &[FileRow], goes_on: impl Fn() -> bool) -> Vec<(String, String)> {
    let mut out = vec![];
    let known: BTreeSet<&str> = files.iter().map(|f| f.path.as_str()).collect();
    for file in files.iter().take_while(|_| goes_on()) {
        match sum_of(&folder.join(&file.path)) {
            Ok((sum, _)) if sum == file.digest => {}
            Ok((_, bytes)) if bytes != file.bytes as u64 => {
                out.push((file.path.clone(), format!("it has {bytes} bytes instead of {}", file.bytes)))
            }
            Ok(_) => out.push((file.path.clone(), "its bytes are others".to_owned())),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => out.push((file.path.clone(), "it is not there".to_owned())),
            Err(e) => out.push((file.path.clone(), e.to_string())),
        }
    }
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        for entry in std::fs::read_dir(&at).into_iter().flatten().flatten() {
            let path = entry.path();
            let name = path.strip_prefix(folder).map(|p| p.display().to_string()).unwrap_or_default();
            match path.is_dir() {
                true => folders.push(path),
                false if !known.contains(name.as_str()) => out.push((name, "nobody made it; it was put there".to_owned())),
                false => {}
            }
        }
    }
    out
}
