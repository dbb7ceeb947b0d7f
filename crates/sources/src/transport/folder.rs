//! A folder into which people drop files.

use super::{Attempt, Call};
use crate::failure::Class;
use std::path::{Component, Path, PathBuf};

/// The file a path of a request names; `None` when it would lead out of the folder.
pub(crate) fn file(root: &Path, path: &str) -> Option<PathBuf> {
    let path = Path::new(path.trim_start_matches('/'));
    path.components().all(|c| matches!(c, Component::Normal(_))).then(|| root.join(path))
}

pub(super) async fn read(root: &Path, limits: &mizuno_config::profile::Limits, call: &Call) -> Attempt {
    let Some(path) = file(root, &call.url) else {
        return Attempt::failed(Class::BadRequest, format!("{} leads out of the folder", call.url));
    };
    match tokio::fs::metadata(&path).await {
        Ok(found) if found.len() > limits.largest_answer() as u64 => {
            let message = format!("{} is larger than {} MiB, the profile's largest_answer_mib", path.display(), limits.largest_answer_mib);
            return Attempt::failed(Class::TooLarge, message);
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            return Attempt::failed(Class::NotListed, format!("there is no file {} yet", path.display()));
        }
        _ => {}
    }
    match tokio::fs::read(&path).await {
        Ok(body) => Attempt::bounded(body, limits.largest_answer()),
        Err(e) => Attempt::failed(Class::Unreachable, format!("{} cannot be read: {e}", path.display())),
    }
}

pub(super) async fn names(root: &Path, call: &Call) -> (Attempt, Vec<String>) {
    let dir = if call.url.trim_matches('/').is_empty() { Some(root.to_owned()) } else { file(root, &call.url) };
    let Some(dir) = dir else { return (Attempt::failed(Class::BadRequest, format!("{} leads out of the folder", call.url)), vec![]) };
    match std::fs::read_dir(&dir) {
        Ok(entries) => (Attempt::answered(None), entries.flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect()),
        Err(e) => (Attempt::failed(Class::Unreachable, format!("the folder {} cannot be read: {e}", dir.display())), vec![]),
    }
}
