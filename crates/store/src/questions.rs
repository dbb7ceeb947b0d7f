//! Questions that researchers saved under a name, with all that they said before.

use crate::{Result, Store};
use mizuno_core::Timestamp;

/// One saving of a question.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedRow {
    /// The name.
    pub name: String,
    /// The canonical text; `None` where the name was taken away.
    pub text: Option<String>,
    /// Who saved it.
    pub by: String,
    /// When.
    pub saved_at: Timestamp,
}

impl Store {
    /// Saves a text under a name, or takes the name away.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn save_question(&self, name: String, text: Option<String>, by: String) -> Result<()> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    sqlx::query!("INSERT INTO saved_question (name, text, by, saved_at) VALUES (?, ?, ?, ?)", name, text, by, now.0)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// All savings under a name, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn question_history(&self, name: &str) -> Result<Vec<SavedRow>> {
        let rows = sqlx::query!("SELECT name, text, by, saved_at FROM saved_question WHERE name = ? ORDER BY id DESC", name);
        let rows = rows.fetch_all(&self.readers).await?;
        Ok(rows.into_iter().map(|r| SavedRow { name: r.name, text: r.text, by: r.by, saved_at: Timestamp(r.saved_at) }).collect())
    }

    /// The newest saving under each name, by name.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn saved_questions(&self) -> Result<Vec<SavedRow>> {
        let rows = sqlx::query!(
            "SELECT name, text, by, saved_at FROM saved_question WHERE id IN (SELECT max(id) FROM saved_question GROUP BY name)
             AND text IS NOT NULL ORDER BY name"
        );
        let rows = rows.fetch_all(&self.readers).await?;
        Ok(rows.into_iter().map(|r| SavedRow { name: r.name, text: r.text, by: r.by, saved_at: Timestamp(r.saved_at) }).collect())
    }
}
