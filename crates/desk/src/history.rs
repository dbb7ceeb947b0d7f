//! What changed when in the configuration, as differences of texts.

use crate::{desk::Desk, error::DeskError};
use mizuno_core::Timestamp;
use mizuno_store::configurations::KeptConfiguration;
use similar::{ChangeTag, TextDiff};
use std::collections::BTreeMap;

/// A configuration that the service accepted.
#[derive(Clone, Debug)]
pub struct Accepted {
    /// Its number.
    pub id: i64,
    /// When it was accepted; it counts from then on.
    pub accepted_at: Timestamp,
    /// How many files it has.
    pub files: usize,
    /// The files that differ from the configuration before, by path; all of them in the first.
    pub changes: Vec<FileChange>,
}

/// How a file differs from the configuration before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileChange {
    /// Its path within the configuration.
    pub path: String,
    /// What happened to it.
    pub change: Change,
    /// Lines that it has and had not.
    pub added: usize,
    /// Lines that it had and has not.
    pub removed: usize,
    /// The difference in the unified format, with three lines round each change.
    pub difference: String,
}

/// What happened to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It was not there before.
    New,
    /// It says something else.
    Changed,
    /// It is there no longer.
    Gone,
}

/// How a text differs from the one before.
fn change(path: &str, before: Option<&str>, after: Option<&str>) -> FileChange {
    let change = match (before, after) {
        (None, _) => Change::New,
        (_, None) => Change::Gone,
        _ => Change::Changed,
    };
    let diff = TextDiff::from_lines(before.unwrap_or_default(), after.unwrap_or_default());
    let (mut added, mut removed) = (0, 0);
    for line in diff.iter_all_changes() {
        added += usize::from(line.tag() == ChangeTag::Insert);
        removed += usize::from(line.tag() == ChangeTag::Delete);
    }
    let difference = diff.unified_diff().context_radius(3).to_string();
    FileChange { path: path.to_owned(), change, added, removed, difference }
}

impl Desk {
    /// All configurations that were accepted, the newest first, each with what changed in it.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn history(&self) -> Result<Vec<Accepted>, DeskError> {
        let all = self.store.configurations().await?;
        let mut out = vec![];
        for (at, kept) in all.iter().enumerate() {
            out.push(self.accepted(kept, at.checked_sub(1).map(|before| &all[before])).await?);
        }
        out.reverse();
        Ok(out)
    }

    /// One of them.
    ///
    /// # Errors
    /// When there is none of that number.
    pub async fn accepted_as(&self, id: i64) -> Result<Accepted, DeskError> {
        let (kept, before) = self.kept_as(id).await?;
        self.accepted(&kept, before.as_ref()).await
    }

    /// The configuration of a number, and the one before it.
    async fn kept_as(&self, id: i64) -> Result<(KeptConfiguration, Option<KeptConfiguration>), DeskError> {
        let mut before = None;
        let mut numbers = vec![];
        for kept in self.store.configurations().await? {
            if kept.id == id {
                return Ok((kept, before));
            }
            numbers.push(kept.id.to_string());
            before = Some(kept);
        }
        Err(DeskError::unknown("configuration", &id.to_string(), numbers.iter().map(String::as_str)))
    }

    /// The text of a file as it stood in a configuration that was accepted.
    ///
    /// # Errors
    /// When there is no such configuration, or no such file in it.
    pub async fn text_then(&self, id: i64, path: &str) -> Result<String, DeskError> {
        let (kept, _) = self.kept_as(id).await?;
        let file = kept.files.get(path).ok_or_else(|| DeskError::unknown("file", path, kept.files.keys().map(String::as_str)))?;
        self.text(file).await
    }

    async fn text(&self, digest: &str) -> Result<String, DeskError> {
        Ok(String::from_utf8_lossy(&self.store.payload(digest).await?).into_owned())
    }

    async fn accepted(&self, kept: &KeptConfiguration, before: Option<&KeptConfiguration>) -> Result<Accepted, DeskError> {
        let none = BTreeMap::new();
        let was = before.map_or(&none, |b| &b.files);
        let mut changes = vec![];
        let paths: std::collections::BTreeSet<&String> = kept.files.keys().chain(was.keys()).collect();
        for path in paths.into_iter().filter(|p| kept.files.get(*p) != was.get(*p)) {
            let (then, now) = (was.get(path), kept.files.get(path));
            let then = if let Some(digest) = then { Some(self.text(digest).await?) } else { None };
            let now = if let Some(digest) = now { Some(self.text(digest).await?) } else { None };
            changes.push(change(path, then.as_deref(), now.as_deref()));
        }
        Ok(Accepted { id: kept.id, accepted_at: kept.accepted_at, files: kept.files.len(), changes })
    }
}
