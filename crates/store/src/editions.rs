//! Editions: what was made, of what, and what each of its files was. A record outlives its files.

use crate::{Result, Store, StoreError, news::from_json};
use mizuno_core::Timestamp;
use serde_json::json;
use std::collections::HashSet;

/// How an edition stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// Under way.
    Making,
    /// All of it is there.
    Made,
    /// A person stopped it.
    Cancelled,
    /// It could not be made.
    Failed,
    /// It was made, and its files have been taken away.
    Expired,
}

impl State {
    const ALL: [State; 5] = [State::Making, State::Made, State::Cancelled, State::Failed, State::Expired];

    /// The word used in the database, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            State::Making => "making",
            State::Made => "made",
            State::Cancelled => "cancelled",
            State::Failed => "failed",
            State::Expired => "expired",
        }
    }

    fn from_word(text: &str) -> Result<State> {
        let found = State::ALL.into_iter().find(|state| state.word() == text);
        found.ok_or_else(|| StoreError::Unreadable { kind: "State", text: text.to_owned() })
    }
}

/// An edition that is to be made.
#[derive(Clone, Debug)]
pub struct NewEdition {
    /// The name of its spec.
    pub spec: String,
    /// What people call it.
    pub label: String,
    /// The instant it stands for.
    pub instant: Timestamp,
    /// The edition that its changes refer to, by its id.
    pub before: Option<i64>,
    /// All that is needed to make it again.
    pub recipe: String,
    /// The version of the program.
    pub program: String,
    /// The moment for which it was due.
    pub due: Option<Timestamp>,
    /// Who asked for it.
    pub asked_by: Option<String>,
    /// What does not hold.
    pub remark: Option<String>,
}

/// An edition in the ledger.
#[derive(Clone, Debug, PartialEq)]
pub struct EditionRow {
    /// Its id.
    pub id: i64,
    /// The name of its spec.
    pub spec: String,
    /// Its number among those of its spec.
    pub number: i64,
    /// What people call it.
    pub label: String,
    /// The instant it stands for.
    pub instant: Timestamp,
    /// The edition that its changes refer to, by its id.
    pub before: Option<i64>,
    /// All that is needed to make it again.
    pub recipe: String,
    /// The version of the program that made it.
    pub program: String,
    /// The moment for which it was due.
    pub due: Option<Timestamp>,
    /// Who asked for it.
    pub asked_by: Option<String>,
    /// When it was begun.
    pub begun_at: Timestamp,
    /// When it was there, or given up.
    pub ended_at: Option<Timestamp>,
    /// How it stands.
    pub state: State,
    /// What did not hold, or why it was not finished.
    pub remark: Option<String>,
    /// The digest of its SHA256SUMS.
    pub sums: Option<String>,
    /// Who keeps it from expiring, and why.
    pub pinned: Option<(String, String)>,
    /// Who withdrew it, why and when.
    pub withdrawn: Option<(String, String, Timestamp)>,
    /// Where in object storage all of it is, and since when.
    pub published: Option<(String, Timestamp)>,
}

impl EditionRow {
    /// Whether its files can be read.
    #[must_use]
    pub fn is_served(&self) -> bool {
        self.state == State::Made && self.withdrawn.is_none()
    }
}

/// How one edition is named.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By<'n> {
    /// By its id.
    Id(i64),
    /// By its spec and number.
    Number(&'n str, i64),
    /// By its spec and label.
    Label(&'n str, &'n str),
    /// The newest of a spec that is served.
    Newest(&'n str),
}

/// A file of an edition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileRow {
    /// Its path in the edition.
    pub path: String,
    /// Its SHA-256 in hexadecimal.
    pub digest: String,
    /// Its size.
    pub bytes: i64,
    /// How many rows it has; nought where it is no table.
    pub rows: i64,
    /// The digest of all that it follows from.
    pub made_of: String,
    /// Whether its bytes are those of the edition before.
    pub linked: bool,
}

struct Record {
    id: i64,
    spec: String,
    number: i64,
    label: String,
    instant: i64,
    before: Option<i64>,
    recipe: String,
    program: String,
    due: Option<i64>,
    asked_by: Option<String>,
    begun_at: i64,
    ended_at: Option<i64>,
    state: String,
    remark: Option<String>,
    sums: Option<String>,
    pinned_by: Option<String>,
    pinned_why: Option<String>,
    withdrawn_by: Option<String>,
    withdrawn_why: Option<String>,
    withdrawn_at: Option<i64>,
    published_to: Option<String>,
    published_at: Option<i64>,
}

/// The records of editions that a condition fits.
macro_rules! records {
    ($condition:tt $(, $given:expr)*) => {
        sqlx::query_as!(
            Record,
            "SELECT id, spec, number, label, instant, before, recipe, program, due, asked_by, begun_at, ended_at, state, remark, sums,
                    pinned_by, pinned_why, withdrawn_by, withdrawn_why, withdrawn_at, published_to, published_at
             FROM edition " + $condition
            $(, $given)*
        )
    };
}

impl Record {
    fn read(self) -> Result<EditionRow> {
        Ok(EditionRow {
            id: self.id,
            spec: self.spec,
            number: self.number,
            label: self.label,
            instant: Timestamp(self.instant),
            before: self.before,
            recipe: self.recipe,
            program: self.program,
            due: self.due.map(Timestamp),
            asked_by: self.asked_by,
            begun_at: Timestamp(self.begun_at),
            ended_at: self.ended_at.map(Timestamp),
            state: State::from_word(&self.state)?,
            remark: self.remark,
            sums: self.sums,
            pinned: self.pinned_by.zip(self.pinned_why),
            published: self.published_to.zip(self.published_at.map(Timestamp)),
            withdrawn: self.withdrawn_by.zip(self.withdrawn_why).zip(self.withdrawn_at).map(|((by, why), at)| (by, why, Timestamp(at))),
        })
    }
}

impl Store {
    /// Begins an edition, which gets the next number of its spec, and gives its id; `None` while another of its spec is under way.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn begin_edition(&self, new: NewEdition) -> Result<Option<i64>> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let under_way = sqlx::query_scalar!("SELECT count(*) FROM edition WHERE spec = ? AND state = 'making'", new.spec);
                    if under_way.fetch_one(&mut *c).await? > 0 {
                        return Ok(None);
                    }
                    let (instant, due) = (new.instant.0, new.due.map(|at| at.0));
                    let done = sqlx::query!(
                        "INSERT INTO edition (spec, number, label, instant, before, recipe, program, due, asked_by, begun_at, state, remark)
                         VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM edition WHERE spec = ?1), ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9,
                                 'making', ?10)",
                        new.spec,
                        new.label,
                        instant,
                        new.before,
                        new.recipe,
                        new.program,
                        due,
                        new.asked_by,
                        now.0,
                        new.remark
                    );
                    Ok(Some(done.execute(c).await?.last_insert_rowid()))
                })
            })
            .await
    }

    /// Keeps what some files of an edition are.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn keep_edition_files(&self, edition: i64, files: Vec<FileRow>) -> Result<()> {
        let row = |f: &FileRow| json!([f.path, f.digest, f.bytes, f.rows, f.made_of, u8::from(f.linked)]);
        let files = files.iter().map(row).collect::<serde_json::Value>().to_string();
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    // All of them in one message to the database.
                    sqlx::query!(
                        "INSERT OR REPLACE INTO edition_file (edition, path, digest, bytes, rows, made_of, linked)
                         SELECT ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5 FROM json_each(?)",
                        edition,
                        files
                    )
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Ends an edition that is under way.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn end_edition(&self, edition: i64, state: State, sums: Option<String>, why: Option<String>) -> Result<()> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let word = state.word();
                    sqlx::query!(
                        "UPDATE edition SET state = ?1, ended_at = ?2, sums = ?3, remark = coalesce(?4, remark) WHERE id = ?5",
                        word,
                        now.0,
                        sums,
                        why,
                        edition
                    )
                    .execute(&mut *c)
                    .await?;
                    if matches!(state, State::Cancelled | State::Failed) {
                        sqlx::query!("DELETE FROM edition_file WHERE edition = ?", edition).execute(c).await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Says that the files of an edition have been taken away.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn expire_edition(&self, edition: i64) -> Result<()> {
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("UPDATE edition SET state = 'expired' WHERE id = ?", edition).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Keeps an edition from expiring, or lets it.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn pin_edition(&self, edition: i64, pinned: Option<(String, String)>) -> Result<()> {
        let (by, why) = pinned.unzip();
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("UPDATE edition SET pinned_by = ?, pinned_why = ? WHERE id = ?", by, why, edition).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Withdraws an edition, with who does it and why.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn withdraw_edition(&self, edition: i64, by: String, why: String) -> Result<()> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    sqlx::query!(
                        "UPDATE edition SET withdrawn_by = ?, withdrawn_why = ?, withdrawn_at = ? WHERE id = ?",
                        by,
                        why,
                        now.0,
                        edition
                    )
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Keeps that a file of an edition is in object storage.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn keep_published_file(&self, edition: i64, path: String) -> Result<()> {
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("INSERT OR IGNORE INTO edition_object (edition, path) VALUES (?, ?)", edition, path).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// The files of an edition that are in object storage.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn published_files(&self, edition: i64) -> Result<HashSet<String>> {
        let rows = sqlx::query_scalar!("SELECT path FROM edition_object WHERE edition = ?", edition);
        Ok(rows.fetch_all(&self.readers).await?.into_iter().collect())
    }

    /// Keeps that all of an edition is in object storage, and where.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn publish_edition(&self, edition: i64, place: String) -> Result<()> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    sqlx::query!("UPDATE edition SET published_to = ?, published_at = ? WHERE id = ?", place, now.0, edition)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// The ids of the editions of which some file is in object storage.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn editions_in_storage(&self) -> Result<HashSet<i64>> {
        let rows = sqlx::query_scalar!("SELECT id FROM edition WHERE EXISTS (SELECT 1 FROM edition_object WHERE edition = edition.id)");
        Ok(rows.fetch_all(&self.readers).await?.into_iter().collect())
    }

    /// Keeps that nothing of an edition is in object storage any more.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn unpublish_edition(&self, edition: i64) -> Result<()> {
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("DELETE FROM edition_object WHERE edition = ?", edition).execute(&mut *c).await?;
                    sqlx::query!("UPDATE edition SET published_to = NULL, published_at = NULL WHERE id = ?", edition).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// The ids of those that are under way.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn editions_under_way(&self) -> Result<Vec<i64>> {
        Ok(sqlx::query_scalar!("SELECT id FROM edition WHERE state = 'making'").fetch_all(&self.readers).await?)
    }

    /// All editions, of one spec or of every one, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn editions(&self, spec: Option<&str>) -> Result<Vec<EditionRow>> {
        let rows = records!("WHERE ?1 IS NULL OR spec = ?1 ORDER BY id DESC", spec);
        rows.fetch_all(&self.readers).await?.into_iter().map(Record::read).collect()
    }

    /// One edition: of several of a label one that is served, and of these the newest.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn edition(&self, by: By<'_>) -> Result<Option<EditionRow>> {
        let found = match by {
            By::Id(id) => records!("WHERE id = ?", id).fetch_optional(&self.readers).await?,
            By::Number(spec, number) => records!("WHERE spec = ? AND number = ?", spec, number).fetch_optional(&self.readers).await?,
            By::Label(spec, label) => {
                let found = records!(
                    "WHERE spec = ? AND label = ? ORDER BY state = 'made' AND withdrawn_at IS NULL DESC, id DESC LIMIT 1",
                    spec,
                    label
                );
                found.fetch_optional(&self.readers).await?
            }
            By::Newest(spec) => {
                let found = records!("WHERE spec = ? AND state = 'made' AND withdrawn_at IS NULL ORDER BY id DESC LIMIT 1", spec);
                found.fetch_optional(&self.readers).await?
            }
        };
        found.map(Record::read).transpose()
    }

    /// The newest edition of each spec, but for those that were cancelled.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn newest_editions(&self) -> Result<Vec<EditionRow>> {
        let rows = records!("WHERE id IN (SELECT MAX(id) FROM edition WHERE state <> 'cancelled' GROUP BY spec)");
        rows.fetch_all(&self.readers).await?.into_iter().map(Record::read).collect()
    }

    /// One file of an edition.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn edition_file(&self, edition: i64, path: &str) -> Result<Option<FileRow>> {
        let file = sqlx::query_as!(
            FileRow,
            r#"SELECT path, digest, bytes, rows, made_of, linked AS "linked: bool" FROM edition_file WHERE edition = ? AND path = ?"#,
            edition,
            path
        );
        Ok(file.fetch_optional(&self.readers).await?)
    }

    /// The files of an edition, by their paths.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn edition_files(&self, edition: i64) -> Result<Vec<FileRow>> {
        // One row, and all of them in it as JSON: the database hands over each value of each row at a price, and there are thousands.
        let all = sqlx::query_scalar!(
            r#"SELECT json_group_array(json_array(path, digest, bytes, rows, made_of, linked)) AS "all!: String"
               FROM edition_file WHERE edition = ?"#,
            edition
        );
        let rows: Vec<(String, String, i64, i64, String, i64)> =
            from_json("the files of an edition", &all.fetch_one(&self.readers).await?)?;
        let file = |(path, digest, bytes, rows, made_of, linked)| FileRow { path, digest, bytes, rows, made_of, linked: linked != 0 };
        let mut files: Vec<FileRow> = rows.into_iter().map(file).collect();
        files.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        Ok(files)
    }
}
