//! Lists that sources keep, row by row, with when each row came and went.

use crate::{Result, Store, StoreError, payloads::Packed};
use mizuno_core::Timestamp;
use sqlx::SqliteConnection;
use std::collections::{BTreeMap, HashMap};

/// A collection of a list, on its way into the ledger.
#[derive(Clone, Debug)]
pub struct NewListFetch {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// Method and address, without secrets.
    pub request: String,
    /// The bytes of the answer; of several pages, one after another.
    pub body: Option<Vec<u8>>,
    /// Rows, each a key and a JSON object; or why there are none.
    pub rows: std::result::Result<Vec<(String, String)>, crate::fetch::Failed>,
    /// Rows that could not be read.
    pub refused: u64,
    /// Whether rows that are no longer there have not ended.
    pub rolling: bool,
}

/// What a collection changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ListChanges {
    /// Rows under keys that were not there.
    pub new: u64,
    /// Rows that differ from what was there.
    pub changed: u64,
    /// Rows that are no longer there.
    pub gone: u64,
    /// Rows under a key that stood before in the same answer; the last one counts.
    pub repeated: u64,
    /// Whether so much is gone that a person has to say whether that is so; nothing is changed until then.
    pub held_back: bool,
}

/// Rows that must be known before a list can shrink implausibly.
const FEW: usize = 4;

/// A collection in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListFetchRow {
    /// Its number.
    pub id: i64,
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// Method and address.
    pub request: String,
    /// Digest of the kept bytes.
    pub payload: Option<String>,
    /// Rows in it.
    pub rows: i64,
    /// Rows that could not be read.
    pub refused: i64,
    /// Why it failed.
    pub failure: Option<crate::fetch::Failed>,
    /// Rows under a key that stood before in the same answer.
    pub repeated: i64,
    /// While a person has to say whether it is true: how many rows it would end.
    pub would_end: Option<i64>,
}

/// What a row of a list says, by column.
pub type Columns = BTreeMap<String, String>;

/// Reads the columns of a row, which are kept as a JSON object.
pub(crate) fn columns(body: String) -> Result<Columns> {
    serde_json::from_str(&body).map_err(|_| StoreError::Unreadable { kind: "the row of a list", text: body })
}

/// A row of a list, for as long as the list said it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListRow {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// Its key.
    pub key: String,
    /// What it says, by column.
    pub columns: Columns,
    /// When it came.
    pub since: Timestamp,
    /// The collection that brought it.
    pub first_of: i64,
    /// When it was gone or had changed, if it is.
    pub until: Option<Timestamp>,
    /// The collection that ended it.
    pub ended_by: Option<i64>,
}

/// The rows a list has now, by key: their numbers and what they say.
async fn known_rows(connection: &mut SqliteConnection, source: &str, list: &str) -> Result<HashMap<String, (i64, String)>> {
    let known = sqlx::query!("SELECT id, row_key, body FROM list_row WHERE source = ? AND list = ? AND until IS NULL", source, list);
    Ok(known.fetch_all(connection).await?.into_iter().map(|r| (r.row_key, (r.id, r.body))).collect())
}

fn held(rows: &[(String, String)]) -> String {
    serde_json::to_string(rows).unwrap_or_default()
}

/// Takes in what a collection says: new and changed rows begin, and unless the list rolls on, those that are not there end.
async fn take(
    connection: &mut SqliteConnection,
    source: &str,
    list: &str,
    rows: Vec<(String, String)>,
    fetch: i64,
    at: Timestamp,
    rolling: bool,
) -> Result<ListChanges> {
    let mut known = known_rows(&mut *connection, source, list).await?;
    let mut changes = ListChanges::default();
    let mut ended = vec![];
    let mut begun: HashMap<String, String> = HashMap::new();
    for (key, body) in rows {
        match known.remove(&key) {
            Some((_, was)) if was == body => {}
            Some((row, _)) => {
                changes.changed += 1;
                ended.push(row);
                begun.insert(key, body);
            }
            // The same key twice in one answer: the last row counts.
            None => changes.new += u64::from(begun.insert(key, body).is_none()),
        }
    }
    if !rolling {
        changes.gone = known.len() as u64;
        ended.extend(known.into_values().map(|(row, _)| row));
    }
    for row in ended {
        sqlx::query!("UPDATE list_row SET until = ?, ended_by = ? WHERE id = ?", at.0, fetch, row).execute(&mut *connection).await?;
    }
    for (key, body) in begun {
        sqlx::query!(
            "INSERT INTO list_row (source, list, row_key, body, since, first_of) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
            source,
            list,
            key,
            body,
            at.0,
            fetch
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(changes)
}

impl Store {
    /// Keeps a collection of a list and what it changed. Rows that are missing from an answer are gone, unless the list is
    /// a rolling one; where more than half would be, the collection is held back for a person.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep_list(&self, fetch: NewListFetch) -> Result<(i64, ListChanges)> {
        let packed = fetch.body.as_deref().map(Packed::new).transpose()?;
        let roster = self.roster.clone();
        self.writer
            .run(move |c, at| {
                Box::pin(async move {
                    roster.note_told(at);
                    let NewListFetch { source, list, request, rows, refused, rolling, .. } = fetch;
                    let size = fetch.body.map_or(0, |b| b.len() as i64);
                    if let Some(packed) = &packed {
                        packed.keep(&mut *c).await?;
                    }
                    let digest = packed.map(|p| p.digest);
                    let (rows, failure) = match rows {
                        Ok(rows) => (rows, None),
                        Err(failure) => (vec![], Some(failure)),
                    };
                    let (count, refused, failed) = (rows.len() as i64, refused as i64, failure.is_some());
                    let (class, message) = failure.map(|f| (f.class, f.message)).unzip();
                    let id = sqlx::query!(
                        "INSERT INTO list_fetch (source, list, asked_at, request, payload, size, rows, refused, failure, message)
                         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                        source,
                        list,
                        at.0,
                        request,
                        digest,
                        size,
                        count,
                        refused,
                        class,
                        message
                    )
                    .execute(&mut *c)
                    .await?
                    .last_insert_rowid();
                    let mut changes = ListChanges::default();
                    if failed {
                        return Ok((id, changes));
                    }
                    let known = known_rows(&mut *c, &source, &list).await?;
                    let keys: std::collections::HashSet<&String> = rows.iter().map(|(key, _)| key).collect();
                    let gone = known.keys().filter(|key| !keys.contains(key)).count();
                    let repeated = (rows.len() - keys.len()) as u64;
                    if !rolling && known.len() >= FEW && gone * 2 > known.len() {
                        let (held, would_end, again) = (held(&rows), gone as i64, repeated as i64);
                        sqlx::query!(
                            "UPDATE list_fetch SET held = ?, would_end = ?, repeated = ? WHERE id = ?",
                            held,
                            would_end,
                            again,
                            id
                        )
                        .execute(c)
                        .await?;
                        return Ok((id, ListChanges { gone: gone as u64, repeated, held_back: true, ..changes }));
                    }
                    changes = take(&mut *c, &source, &list, rows, id, at, rolling).await?;
                    let again = repeated as i64;
                    sqlx::query!("UPDATE list_fetch SET repeated = ? WHERE id = ?", again, id).execute(c).await?;
                    changes.repeated = repeated;
                    Ok((id, changes))
                })
            })
            .await
    }

    /// Takes a collection of a list that was held back, as of now, or refuses it. Its rows, when it was taken.
    ///
    /// # Errors
    /// When the newest collection of that list is not held back, or the database cannot be written.
    pub async fn decide_list(&self, source: String, list: String, taken: bool) -> Result<Vec<(String, String)>> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, at| {
                Box::pin(async move {
                    roster.note_told(at);
                    let newest = sqlx::query!(
                        "SELECT id, held FROM list_fetch WHERE source = ? AND list = ? ORDER BY id DESC LIMIT 1",
                        source,
                        list
                    );
                    let newest = newest.fetch_optional(&mut *c).await?.and_then(|r| Some((r.id, r.held?)));
                    let unknown = || StoreError::Unknown { kind: "list that is held back", id: format!("{source}/{list}") };
                    let (id, held) = newest.ok_or_else(unknown)?;
                    sqlx::query!("UPDATE list_fetch SET held = NULL, would_end = NULL WHERE id = ?", id).execute(&mut *c).await?;
                    if !taken {
                        return Ok(vec![]);
                    }
                    let rows: Vec<(String, String)> =
                        serde_json::from_str(&held).map_err(|_| StoreError::Unreadable { kind: "the rows of a list", text: held })?;
                    take(c, &source, &list, rows.clone(), id, at, false).await?;
                    Ok(rows)
                })
            })
            .await
    }

    /// The keys that a list would end, which is held back: those it has no longer.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn would_end(&self, fetch: i64) -> Result<Vec<String>> {
        let kept = sqlx::query!("SELECT source, list, held FROM list_fetch WHERE id = ?", fetch).fetch_one(&self.readers).await?;
        let Some(held) = kept.held else { return Ok(vec![]) };
        let rows: Vec<(String, String)> =
            serde_json::from_str(&held).map_err(|_| StoreError::Unreadable { kind: "the rows of a list", text: held })?;
        let said: std::collections::HashSet<String> = rows.into_iter().map(|(key, _)| key).collect();
        let known = sqlx::query_scalar!(
            "SELECT row_key FROM list_row WHERE source = ? AND list = ? AND until IS NULL ORDER BY row_key",
            kept.source,
            kept.list
        );
        Ok(known.fetch_all(&self.readers).await?.into_iter().filter(|key| !said.contains(key)).collect())
    }

    /// The newest collection of each list.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_fetches(&self) -> Result<Vec<ListFetchRow>> {
        let rows = sqlx::query!(
            "SELECT * FROM list_fetch WHERE id IN (SELECT max(id) FROM list_fetch GROUP BY source, list) ORDER BY source, list"
        )
        .fetch_all(&self.readers)
        .await?;
        let row = rows.into_iter().map(|r| ListFetchRow {
            id: r.id,
            source: r.source,
            list: r.list,
            asked_at: Timestamp(r.asked_at),
            request: r.request,
            payload: r.payload,
            rows: r.rows,
            refused: r.refused,
            failure: r.failure.map(|class| crate::fetch::Failed { class, message: r.message.unwrap_or_default() }),
            repeated: r.repeated,
            would_end: r.would_end,
        });
        Ok(row.collect())
    }

    /// What the lists say now: of one source, or of all.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_rows(&self, source: Option<&str>, list: Option<&str>) -> Result<Vec<ListRow>> {
        self.select_list_rows(source, list, None, Timestamp::MAX).await
    }

    /// What one list was known to say at an instant.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_rows_as_of(&self, source: &str, list: &str, as_of: Timestamp) -> Result<Vec<ListRow>> {
        self.select_list_rows(Some(source), Some(list), None, as_of).await
    }

    /// Every row that one list was known by an instant to have said, those among them that it no longer said.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_history(&self, source: &str, list: &str, as_of: Timestamp) -> Result<Vec<ListRow>> {
        let mut rows = self.select_list_rows(Some(source), Some(list), Some(i64::MIN), Timestamp::MAX).await?;
        rows.retain(|row| row.since <= as_of);
        for row in rows.iter_mut().filter(|row| row.until.is_some_and(|until| until > as_of)) {
            (row.until, row.ended_by) = (None, None);
        }
        Ok(rows)
    }

    /// When a list was collected without failing, by an instant, in order; a collection that was held back is none before it was taken.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_collections(&self, source: &str, list: &str, as_of: Timestamp) -> Result<Vec<Timestamp>> {
        let rows = sqlx::query_scalar!(
            "SELECT asked_at FROM list_fetch
             WHERE source = ? AND list = ? AND failure IS NULL AND held IS NULL AND asked_at <= ? ORDER BY asked_at",
            source,
            list,
            as_of.0
        );
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(Timestamp).collect())
    }

    /// How many rows of a list of a source, or of all lists, came or went after an instant.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn lists_changed_since(&self, which: Option<(&str, &str)>, at: Timestamp) -> Result<i64> {
        let (source, list) = which.unzip();
        let count = sqlx::query_scalar!(
            "SELECT count(*) FROM list_row WHERE (?1 IS NULL OR source = ?1) AND (?2 IS NULL OR list = ?2) AND (since > ?3 OR until > ?3)",
            source,
            list,
            at.0
        );
        Ok(count.fetch_one(&self.readers).await?)
    }

    /// Every row that came or went after `since`, newest last.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn list_changes(&self, since: Timestamp) -> Result<Vec<ListRow>> {
        self.select_list_rows(None, None, Some(since.0), Timestamp::MAX).await
    }

    async fn select_list_rows(
        &self,
        source: Option<&str>,
        list: Option<&str>,
        since: Option<i64>,
        as_of: Timestamp,
    ) -> Result<Vec<ListRow>> {
        let rows = sqlx::query!(
            "SELECT source, list, row_key, body, since, first_of, until, ended_by FROM list_row
             WHERE (?1 IS NULL OR source = ?1) AND (?2 IS NULL OR list = ?2)
                 AND CASE WHEN ?3 IS NULL THEN since <= ?4 AND (until IS NULL OR until > ?4) ELSE since > ?3 OR until > ?3 END
             ORDER BY since, row_key",
            source,
            list,
            since,
            as_of.0
        )
        .fetch_all(&self.readers)
        .await?;
        let mut out = Vec::with_capacity(rows.len());
        for r in rows {
            out.push(ListRow {
                source: r.source,
                list: r.list,
                key: r.row_key,
                columns: columns(r.body)?,
                since: Timestamp(r.since),
                first_of: r.first_of,
                until: r.until.map(Timestamp),
                ended_by: r.ended_by,
            });
        }
        Ok(out)
    }

    /// Calls of a source reserved on a day so far.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn reserved_calls(&self, source: &str, day: i32) -> Result<u32> {
        let found = sqlx::query_scalar!("SELECT reserved FROM daily_calls WHERE source = ? AND day = ?", source, day);
        let reserved = found.fetch_optional(&self.readers).await?.unwrap_or(0);
        u32::try_from(reserved).map_err(|_| StoreError::Unreadable { kind: "count of calls", text: reserved.to_string() })
    }

    /// Writes down that so many calls of a source are reserved on a day.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn reserve_calls(&self, source: String, day: i32, calls: u32) -> Result<()> {
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!(
                        "INSERT INTO daily_calls (source, day, reserved) VALUES (?, ?, ?)
                         ON CONFLICT DO UPDATE SET reserved = max(reserved, excluded.reserved)",
                        source,
                        day,
                        calls
                    )
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }
}
