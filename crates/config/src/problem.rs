//! What is wrong with a configuration file, and where.

use serde::de::DeserializeOwned;
use std::{
    fmt,
    path::{Path, PathBuf},
};

/// One thing wrong in one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The file, relative to the configuration directory.
    pub file: PathBuf,
    /// The line, from 1; `None` when it is about the file as a whole.
    pub line: Option<usize>,
    /// What is wrong, and what was expected.
    pub what: String,
}

impl Problem {
    /// A problem of the file as a whole.
    #[must_use]
    pub fn whole(file: &Path, what: String) -> Problem {
        Problem { file: file.to_owned(), line: None, what }
    }

    /// A problem at a byte of the file.
    #[must_use]
    pub fn at(file: &Path, text: &str, byte: usize, what: String) -> Problem {
        let line = text.bytes().take(byte).filter(|b| *b == b'\n').count() + 1;
        Problem { file: file.to_owned(), line: Some(line), what }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.file.display())?;
        if let Some(line) = self.line {
            write!(f, ":{line}")?;
        }
        write!(f, ": {}", self.what)
    }
}

/// Everything wrong with a configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problems(pub Vec<Problem>);

impl std::error::Error for Problems {}

impl fmt::Display for Problems {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, problem) in self.0.iter().enumerate() {
            let newline = if i == 0 { "" } else { "\n" };
            write!(f, "{newline}{problem}")?;
        }
        Ok(())
    }
}

/// Reads a TOML file into its type; the first thing wrong in it, with its line.
pub(crate) fn toml<T: DeserializeOwned>(file: &Path, text: &str) -> Result<T, Vec<Problem>> {
    ::toml::from_str(text).map_err(|e| {
        let what = e.message().trim().replace('\n', "; ");
        vec![match e.span() {
            Some(span) => Problem::at(file, text, span.start, what),
            None => Problem::whole(file, what),
        }]
    })
}
