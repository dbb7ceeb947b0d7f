//! Corporate actions that people entered, with those that were withdrawn.

use crate::{
    Result, Store, StoreError,
    lists::{Columns, columns},
};
use mizuno_core::Timestamp;

/// An action that a person entered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EnteredRow {
    /// Its number.
    pub id: i64,
    /// The symbol it was entered for.
    pub symbol: String,
    /// The word of its kind.
    pub kind: String,
    /// Its terms, by column.
    pub columns: Columns,
    /// Who entered it.
    pub by: String,
    /// Why.
    pub reason: String,
    /// When.
    pub entered_at: Timestamp,
    /// When it was withdrawn, by whom and why.
    pub withdrawn: Option<(Timestamp, String, String)>,
}

impl EnteredRow {
    /// Whether it was entered, and not withdrawn, at an instant.
    #[must_use]
    pub fn is_in_force(&self, as_of: Timestamp) -> bool {
        self.entered_at <= as_of && self.withdrawn.as_ref().is_none_or(|(at, ..)| *at > as_of)
    }
}

/// An action about to be entered.
#[derive(Clone, Debug)]
pub struct NewAction {
    /// The symbol.
    pub symbol: String,
    /// The word of its kind.
    pub kind: String,
    /// Its terms, by column.
    pub columns: Columns,
}

impl Store {
    /// Writes down actions that a person enters, all or none; returns their numbers.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn enter_actions(&self, actions: Vec<NewAction>, by: String, reason: String) -> Result<Vec<i64>> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    roster.note_told(now);
                    let mut ids = vec![];
                    for NewAction { symbol, kind, columns } in actions {
                        let columns = serde_json::to_string(&columns).unwrap_or_default();
                        let row = sqlx::query!(
                            "INSERT INTO entered_action (symbol, kind, columns, by_whom, reason, entered_at) VALUES (?, ?, ?, ?, ?, ?)",
                            symbol,
                            kind,
                            columns,
                            by,
                            reason,
                            now.0
                        );
                        ids.push(row.execute(&mut *c).await?.last_insert_rowid());
                    }
                    Ok(ids)
                })
            })
            .await
    }

    /// Withdraws an action; its row stays, with the time of that.
    ///
    /// # Errors
    /// When there is no such action in force, or the database cannot be written.
    pub async fn withdraw_action(&self, id: i64, by: String, why: String) -> Result<()> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    roster.note_told(now);
                    let withdrawn = sqlx::query!(
                        "UPDATE entered_action SET withdrawn_at = ?, withdrawn_by = ?, withdrawn_why = ? WHERE id = ? AND withdrawn_at IS NULL",
                        now.0,
                        by,
                        why,
                        id
                    );
                    match withdrawn.execute(c).await?.rows_affected() {
                        0 => Err(StoreError::Unknown { kind: "action", id: id.to_string() }),
                        _ => Ok(()),
                    }
                })
            })
            .await
    }

    /// All actions ever entered, in the order in which they were.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn entered_actions(&self) -> Result<Vec<EnteredRow>> {
        let rows = sqlx::query!("SELECT * FROM entered_action ORDER BY id").fetch_all(&self.readers).await?;
        let row = rows.into_iter().map(|r| {
            let withdrawn =
                r.withdrawn_at.map(|at| (Timestamp(at), r.withdrawn_by.unwrap_or_default(), r.withdrawn_why.unwrap_or_default()));
            Ok(EnteredRow {
                id: r.id,
                symbol: r.symbol,
                kind: r.kind,
                columns: columns(r.columns)?,
                by: r.by_whom,
                reason: r.reason,
                entered_at: Timestamp(r.entered_at),
                withdrawn,
            })
        });
        row.collect()
    }
}
