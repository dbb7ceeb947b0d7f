//! The ledger of runs.

use crate::{Result, Store, StoreError};
use mizuno_core::Timestamp;
use std::collections::BTreeMap;

/// Why a run was started.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// Its collector's schedule came due.
    Schedule,
    /// A person asked for it.
    Request,
    /// A person asked for some gaps to be fetched again.
    Repair,
    /// The run before it was cut short by the end of the process.
    Recovery,
}

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// At work.
    Running,
    /// Every window was answered.
    Complete,
    /// Some windows failed.
    Incomplete,
    /// A person stopped it.
    Cancelled,
    /// The process ended under it.
    Interrupted,
}

macro_rules! words {
    ($type:ident { $($variant:ident = $word:literal),+ }) => {
        impl $type {
            /// The word used in the database, on the command line and over HTTP.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $($type::$variant => $word),+ }
            }
            fn from_word(text: &str) -> Result<$type> {
                match text {
                    $($word => Ok($type::$variant),)+
                    _ => Err(StoreError::Unreadable { kind: stringify!($type), text: text.to_owned() }),
                }
            }
        }
    };
}
words!(Reason { Schedule = "schedule", Request = "request", Repair = "repair", Recovery = "recovery" });
words!(State { Running = "running", Complete = "complete", Incomplete = "incomplete", Cancelled = "cancelled", Interrupted = "interrupted" });

/// A run in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunRow {
    /// Its number.
    pub id: i64,
    /// The collector it belongs to.
    pub collector: String,
    /// Why it was started.
    pub reason: Reason,
    /// What it was asked to do, as the service writes it.
    pub scope: String,
    /// When it began.
    pub started_at: Timestamp,
    /// When it ended; `None` while it runs.
    pub ended_at: Option<Timestamp>,
    /// How it stands.
    pub state: State,
    /// Windows planned.
    pub windows: i64,
}

/// A row of the table.
struct Record {
    id: i64,
    collector: String,
    reason: String,
    scope: String,
    started_at: i64,
    ended_at: Option<i64>,
    state: String,
    windows: i64,
}

/// What the fetches of a run came to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Figures {
    /// Windows answered and stored.
    pub done: i64,
    /// How many of these brought nothing new and are folded.
    pub folded: i64,
    /// Windows that failed.
    pub failed: i64,
    /// Bars new to us.
    pub bars_new: i64,
    /// Bars equal to what was known.
    pub bars_same: i64,
    /// Bars that differ from what was known.
    pub restated: i64,
    /// Rows put in quarantine.
    pub refused: i64,
    /// Bytes of answers.
    pub bytes: i64,
    /// Requests sent.
    pub calls: i64,
    /// How many windows failed, by class of failure.
    pub failures: BTreeMap<String, u64>,
}

impl Store {
    /// Writes down that a run begins.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn begin_run(&self, collector: String, reason: Reason, scope: String) -> Result<i64> {
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let reason = reason.word();
                    let run = sqlx::query!(
                        "INSERT INTO run (collector, reason, scope, started_at, state) VALUES (?, ?, ?, ?, 'running')",
                        collector,
                        reason,
                        scope,
                        now.0
                    );
                    Ok(run.execute(c).await?.last_insert_rowid())
                })
            })
            .await
    }

    /// Writes down how many windows a run has planned.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn plan_run(&self, run: i64, windows: u64) -> Result<()> {
        let windows = windows as i64;
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("UPDATE run SET windows = ? WHERE id = ?", windows, run).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Writes down that a run has ended.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn end_run(&self, run: i64, state: State) -> Result<()> {
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    let state = state.word();
                    sqlx::query!("UPDATE run SET state = ?, ended_at = ? WHERE id = ?", state, stamp.0, run).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Marks every run that was running when the process last ended, and returns their numbers, oldest first.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn interrupt_runs(&self) -> Result<Vec<i64>> {
        let running = sqlx::query_scalar!("SELECT id FROM run WHERE state = 'running' ORDER BY id").fetch_all(&self.readers).await?;
        for run in &running {
            self.end_run(*run, State::Interrupted).await?;
        }
        Ok(running)
    }

    /// The newest `most` runs, of one collector or of all, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn runs(&self, collector: Option<&str>, most: i64) -> Result<Vec<RunRow>> {
        self.select_runs(None, collector, most).await
    }

    /// One run.
    ///
    /// # Errors
    /// When there is none, or the database cannot be read.
    pub async fn run(&self, id: i64) -> Result<RunRow> {
        let found = self.select_runs(Some(id), None, 1).await?.pop();
        found.ok_or_else(|| StoreError::Unknown { kind: "run", id: id.to_string() })
    }

    async fn select_runs(&self, id: Option<i64>, collector: Option<&str>, most: i64) -> Result<Vec<RunRow>> {
        let rows = sqlx::query_as!(
            Record,
            "SELECT id, collector, reason, scope, started_at, ended_at, state, windows FROM run WHERE (?1 IS NULL OR id = ?1) AND (?2 IS NULL OR collector = ?2) ORDER BY id DESC LIMIT ?3",
            id,
            collector,
            most
        );
        let row = |r: Record| -> Result<RunRow> {
            Ok(RunRow {
                id: r.id,
                reason: Reason::from_word(&r.reason)?,
                state: State::from_word(&r.state)?,
                collector: r.collector,
                scope: r.scope,
                started_at: Timestamp(r.started_at),
                ended_at: r.ended_at.map(Timestamp),
                windows: r.windows,
            })
        };
        rows.fetch_all(&self.readers).await?.into_iter().map(row).collect()
    }

    /// What the fetches of a run have come to; it reads them all. A window that failed and was asked for again in the same run counts once, as it ended.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn figures(&self, run: i64) -> Result<Figures> {
        let groups = sqlx::query!(
            "SELECT state, failure,
                 sum(NOT (state = 'failed' AND EXISTS (SELECT 1 FROM fetch AS later WHERE later.run_id = ?1 AND later.series_id = f.series_id
                     AND later.window_start = f.window_start AND later.window_end = f.window_end AND later.id > f.id))) AS \"count!: i64\",
                 sum(bars_new) AS \"bars_new!: i64\", sum(bars_same) AS \"bars_same!: i64\", sum(restated) AS \"restated!: i64\",
                 sum(refused) AS \"refused!: i64\", sum(payload_size) AS \"bytes!: i64\", sum(attempts) AS \"calls!: i64\"
             FROM fetch AS f WHERE run_id = ?1
             GROUP BY state, failure",
            run
        );
        let folded = sqlx::query!("SELECT folded, folded_same, folded_bytes, folded_calls FROM run WHERE id = ?", run);
        let mut out = match folded.fetch_optional(&self.readers).await? {
            None => Figures::default(),
            Some(f) => Figures {
                done: f.folded,
                folded: f.folded,
                bars_same: f.folded_same,
                bytes: f.folded_bytes,
                calls: f.folded_calls,
                ..Figures::default()
            },
        };
        for group in groups.fetch_all(&self.readers).await? {
            match group.state.as_str() {
                "stored" => out.done += group.count,
                "failed" if group.count > 0 => {
                    out.failed += group.count;
                    out.failures.insert(group.failure.unwrap_or_default(), group.count as u64);
                }
                _ => {}
            }
            out.bars_new += group.bars_new;
            out.bars_same += group.bars_same;
            out.restated += group.restated;
            out.refused += group.refused;
            out.bytes += group.bytes;
            out.calls += group.calls;
        }
        Ok(out)
    }
}
