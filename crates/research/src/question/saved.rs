//! Questions saved under a name: by the operator as files of the configuration, by researchers in the database.

use super::{Question, given::Given};
use crate::Research;
use mizuno_config::Config;
use mizuno_core::Timestamp;
use mizuno_desk::{DeskError, Setup};

/// Characters a name may have.
const LONGEST: usize = 60;

/// A question under a name.
#[derive(Clone, Debug, PartialEq)]
pub struct Saved {
    /// Its name.
    pub name: String,
    /// Its text, as TOML; `None` where the name was taken away.
    pub text: Option<String>,
    /// Who saved it; `None` where it is a file of the configuration.
    pub by: Option<String>,
    /// When; `None` where it is a file of the configuration.
    pub saved_at: Option<Timestamp>,
}

/// What is wrong with the questions of a configuration, and with what editions make of them, each with its file.
#[must_use]
pub fn problems(config: &Config) -> Vec<String> {
    let read = |(name, text): (&String, &String)| {
        let found = Given::from_toml(text).map_err(|e| vec![e]).and_then(|given| Question::read(given).map(drop));
        let named = |problems: Vec<String>| problems.into_iter().map(move |p| format!("questions/{name}.toml: {p}")).collect::<Vec<_>>();
        found.err().map(named).unwrap_or_default()
    };
    config.questions.iter().flat_map(read).chain(crate::editions::problems(config)).collect()
}

/// Refuses a configuration with a question in it that cannot be asked, or that an edition cannot be made of.
///
/// # Errors
/// Everything that is wrong with its questions.
pub fn check(config: &Config) -> Result<(), DeskError> {
    match problems(config) {
        problems if problems.is_empty() => Ok(()),
        problems => Err(DeskError::Invalid(problems.join("\n"))),
    }
}

fn sound_name(name: &str) -> Result<&str, DeskError> {
    let sound = !name.is_empty() && name.len() <= LONGEST && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    match sound {
        true => Ok(name),
        false => Err(DeskError::Invalid(format!(
            "`{name}` cannot be the name of a question; a name has letters, digits, - and _, and at most {LONGEST} of them"
        ))),
    }
}

impl Research {
    /// All saved questions, by name.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn saved_questions(&self, setup: &Setup) -> Result<Vec<Saved>, DeskError> {
        let of_files = setup.config.questions.iter();
        let mut out: Vec<Saved> =
            of_files.map(|(name, text)| Saved { name: name.clone(), text: Some(text.clone()), by: None, saved_at: None }).collect();
        // A file that came later goes before what a researcher had called so.
        let rows = self.desk.store.saved_questions().await?.into_iter().filter(|r| !setup.config.questions.contains_key(&r.name));
        out.extend(rows.map(|r| Saved { name: r.name, text: r.text, by: Some(r.by), saved_at: Some(r.saved_at) }));
        out.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(out)
    }

    /// What a name has meant, the newest first.
    ///
    /// # Errors
    /// When nothing was ever saved under it.
    pub async fn saved_under(&self, setup: &Setup, name: &str) -> Result<Vec<Saved>, DeskError> {
        let file = setup.config.questions.get(name);
        let mut out: Vec<Saved> =
            file.map(|text| Saved { name: name.to_owned(), text: Some(text.clone()), by: None, saved_at: None }).into_iter().collect();
        let rows = self.desk.store.question_history(name).await?;
        out.extend(rows.into_iter().map(|r| Saved { name: r.name, text: r.text, by: Some(r.by), saved_at: Some(r.saved_at) }));
        if out.is_empty() {
            let known: Vec<String> = self.saved_questions(setup).await?.into_iter().map(|s| s.name).collect();
            return Err(DeskError::unknown("saved question", name, known.iter().map(String::as_str)));
        }
        Ok(out)
    }

    /// The keys of a saved question, with other keys in their place where they are given too.
    ///
    /// # Errors
    /// When there is no such question, or it was taken away.
    pub async fn given_by_name(&self, setup: &Setup, name: &str, more: Given) -> Result<Given, DeskError> {
        let newest = self.saved_under(setup, name).await?.into_iter().next();
        let text = newest.and_then(|saved| saved.text);
        let text = text.ok_or_else(|| DeskError::Over(format!("the question {name} was taken away; its history has what it said")))?;
        let mut given = Given::from_toml(&text).map_err(DeskError::Invalid)?;
        given.0.extend(more.0);
        Ok(given)
    }

    /// Saves a question under a name, in the place of what the name meant before.
    ///
    /// # Errors
    /// When the name belongs to the configuration or cannot be one, nobody is named, or nothing can be written.
    pub async fn save(&self, setup: &Setup, name: &str, question: &Question, by: &str) -> Result<(), DeskError> {
        self.write(setup, name, Some(question.to_toml()), by).await
    }

    /// Takes a name away; its history stays.
    ///
    /// # Errors
    /// When there is no such question, or it belongs to the configuration.
    pub async fn unsave(&self, setup: &Setup, name: &str, by: &str) -> Result<(), DeskError> {
        if self.saved_under(setup, name).await?.first().is_some_and(|s| s.text.is_none()) {
            return Err(DeskError::Over(format!("the question {name} was taken away before")));
        }
        self.write(setup, name, None, by).await
    }

    async fn write(&self, setup: &Setup, name: &str, text: Option<String>, by: &str) -> Result<(), DeskError> {
        let name = sound_name(name)?;
        if setup.config.questions.contains_key(name) {
            return Err(DeskError::NotAllowed(format!(
                "the question {name} is the operator's, in questions/{name}.toml of the configuration; save yours under another name"
            )));
        }
        match by.trim() {
            "" => Err(DeskError::Invalid("saving a question needs a name of who does it (`by`)".to_owned())),
            by => Ok(self.desk.store.save_question(name.to_owned(), text, by.to_owned()).await?),
        }
    }
}
