//! The files of a configuration directory, as they were read.

use crate::problem::Problem;
use std::{
    collections::BTreeMap,
    io::ErrorKind,
    path::{Path, PathBuf},
};

/// Folders of a configuration, each with the ending of its files.
const FOLDERS: [(&str, &str); 8] = [
    ("venues", "toml"),
    ("instruments", "csv"),
    ("sources", "toml"),
    ("collectors", "toml"),
    ("questions", "toml"),
    ("universes", "toml"),
    ("chains", "toml"),
    ("editions", "toml"),
];

/// Files of a configuration that stand by themselves; those after the first may be absent.
const FILES: [&str; 4] = ["mizuno.toml", "ranking.toml", "rates.toml", "checks.toml"];

/// The text of each file, by its path within the directory, as in `venues/aldx.toml`. Keys and passwords are not among them: `.env`
/// is no part of a configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Texts(pub BTreeMap<String, String>);

impl Texts {
    /// Reads the files of a directory; and which of them cannot be read.
    #[must_use]
    pub fn read(dir: &Path) -> (Texts, Vec<Problem>) {
        let (mut texts, mut problems) = (BTreeMap::new(), vec![]);
        let mut unreadable = |path: &str, e: std::io::Error| problems.push(Problem::whole(Path::new(path), format!("cannot be read: {e}")));
        let mut paths: Vec<(String, bool)> = FILES.iter().enumerate().map(|(at, file)| ((*file).to_owned(), at > 0)).collect();
        for (folder, ending) in FOLDERS {
            let names = match std::fs::read_dir(dir.join(folder)) {
                Ok(entries) => entries.flatten().map(|e| PathBuf::from(e.file_name())),
                Err(e) if e.kind() == ErrorKind::NotFound => continue,
                Err(e) => {
                    unreadable(folder, e);
                    continue;
                }
            };
            let files = names.filter(|name| name.extension().is_some_and(|e| e == ending));
            paths.extend(files.map(|name| (format!("{folder}/{}", name.display()), false)));
        }
        for (path, may_be_absent) in paths {
            match std::fs::read_to_string(dir.join(&path)) {
                Ok(text) => drop(texts.insert(path, text)),
                Err(e) if may_be_absent && e.kind() == ErrorKind::NotFound => {}
                Err(e) => unreadable(&path, e),
            }
        }
        (Texts(texts), problems)
    }

    /// Parses every file of a folder, in the order of their names; all problems of all files at once.
    pub(crate) fn many<T>(
        &self,
        folder: &str,
        parse: impl Fn(&Path, &str) -> Result<Vec<T>, Vec<Problem>>,
    ) -> Result<Vec<(PathBuf, T)>, Vec<Problem>> {
        let (mut out, mut problems) = (vec![], vec![]);
        for (path, text) in self.0.iter().filter(|(path, _)| path.split_once('/').is_some_and(|(of, _)| of == folder)) {
            let path = PathBuf::from(path);
            match parse(&path, text) {
                Ok(found) => out.extend(found.into_iter().map(|t| (path.clone(), t))),
                Err(found) => problems.extend(found),
            }
        }
        if problems.is_empty() { Ok(out) } else { Err(problems) }
    }

    /// Parses a file that may be absent.
    pub(crate) fn if_there<T: Default>(&self, file: &str, parse: fn(&Path, &str) -> Result<T, Vec<Problem>>) -> Result<T, Vec<Problem>> {
        self.0.get(file).map_or_else(|| Ok(T::default()), |text| parse(Path::new(file), text))
    }
}
