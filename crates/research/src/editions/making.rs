//! The files of an edition as they are made.
//!
//! [`Maker`] works in a folder of its own, keeps in the ledger what each file is as soon as that is on the disk, and puts the folder in its place
//! when all of it is there. A process that is killed goes on behind the last file. A file that follows from the same as that of the
//! edition before is the same file: a second name, and no second copy.

use super::{
    GivenUp, Progress, Recipe, SUMS,
    beside::{self, Beside},
    contents::Contents,
    cutting::{Cutting, Part},
    file::Written,
    package::{self, Answered, Resource, Told},
    page,
};
use crate::{
    Research,
    answer::{
        Answer,
        batch::{Batch, Cells, Heading, Kind},
    },
    encode::{Style, encoder},
    question::{
        File, Format, Question,
        zone::{Clock, Stamp},
    },
};
use futures_util::{StreamExt, future::join, stream};
use mizuno_core::{Timestamp, bar::Digits, decimal::power};
use mizuno_desk::DeskError;
use mizuno_store::{editions::FileRow, payloads::digest};
use std::{
    collections::HashMap,
    io::ErrorKind,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};
use tokio::{sync::mpsc::unbounded_channel, task::yield_now};

/// Files made side by side: each is laid out on one thread and written on another, and now and then one waits for the disk.
const SIDE_BY_SIDE: usize = 3;
/// Files that stand in the ledger together, and the bytes of those that were made: so much is made again after a kill.
const AT_ONCE: usize = 256;
const BYTES_AT_ONCE: i64 = 32 << 20;
/// Digits of a decimal in a Parquet file of an edition.
const DIGITS: u8 = 18;

/// What becomes of the files.
pub(super) struct Made {
    pub rows: Vec<FileRow>,
    /// The digest of the file of sums.
    pub sums: String,
}

/// A job that makes files into a folder.
pub(super) struct Maker {
    pub research: Arc<Research>,
    pub recipe: Recipe,
    pub instant: Timestamp,
    /// The instant of the edition before.
    pub since: Option<Timestamp>,
    /// The folder of the edition before with what its files are, where some may be taken from it.
    pub before: Option<(PathBuf, HashMap<String, FileRow>)>,
    pub folder: PathBuf,
    /// The edition in whose name files are kept in the ledger, and those that are kept already.
    pub kept: Option<(i64, HashMap<String, FileRow>)>,
    /// Files that are on the disk and not in the ledger yet.
    pub waiting: Mutex<Vec<FileRow>>,
    pub progress: Arc<Progress>,
}

impl Maker {
    /// Makes every file.
    pub async fn make(&self) -> Result<Made, DeskError> {
        let edition = self.recipe.edition()?;
        std::fs::create_dir_all(&self.folder).map_err(|e| DeskError::file(&self.folder, e))?;
        // What the answers were is found out meanwhile.
        let then = self.what_was(&edition)?;
        let mut cuttings = vec![];
        for file in &edition.files {
            cuttings.push(Arc::new(self.research.cut(&self.recipe, file, self.instant).await?));
        }
        let files: usize = cuttings.iter().map(|c| c.parts.len()).sum();
        self.progress.files.store(files as u64, std::sync::atomic::Ordering::Relaxed);
        let beside = async {
            let gathered = Contents::gather(&self.research, &edition, &cuttings, self.instant, self.since).await;
            let contents = gathered.map_err(|error| self.progress.give_up(error))?;
            let about = self.tables_about(&contents).await.map_err(|error| self.progress.give_up(error))?;
            let changes = self.all_changes(then, &cuttings).await?;
            Ok::<_, GivenUp>((contents, about, changes))
        };
        // Both take long, and neither needs the other.
        let (Ok(told), Ok((contents, mut about, changes))) = join(self.all_files(&cuttings), beside).await else {
            return Err(self.progress.failure());
        };
        let mut described = std::collections::BTreeSet::new();
        for answer in told.iter().filter(|answer| described.insert(package::schema_path(answer))) {
            about.push(self.keep(&package::schema_path(answer), package::schema(answer).as_bytes(), 0).await?);
        }
        let mut tables = changes;
        if let Some(spec) = &edition.table {
            for beside in beside::tables(&self.research, spec, &cuttings, self.instant).await? {
                tables.push(self.beside(&spec.name, beside).await?);
            }
        }
        drop(cuttings);
        let package = package::text(&edition, &self.recipe, &contents, &told, &about, &tables);
        let files = told.into_iter().flat_map(|t| t.files.into_iter().map(|r| r.row));
        let mut rows: Vec<FileRow> = files.chain(tables.into_iter().map(|told| told.row)).chain(about).collect();
        let page = page::text(&edition, &contents, &rows);
        rows.push(self.keep(super::PACKAGE, package.as_bytes(), 0).await?);
        rows.push(self.keep(super::PAGE, page.as_bytes(), 0).await?);
        rows.sort_by(|a, b| a.path.cmp(&b.path));
        let sums: String = rows.iter().map(|row| format!("{}  {}\n", row.digest, row.path)).collect();
        let sums = self.keep(SUMS, sums.as_bytes(), 0).await?;
        self.keep_waiting().await?;
        Ok(Made { sums: sums.digest, rows })
    }

    /// Makes the tables that tell of the bars.
    async fn tables_about(&self, contents: &Contents) -> Result<Vec<FileRow>, DeskError> {
        let mut out = vec![];
        for (name, table) in &contents.tables {
            let path = format!("{}/{name}.csv", mizuno_config::edition::ABOUT);
            out.push(self.keep(&path, table.text().as_bytes(), table.rows() as i64).await?);
        }
        Ok(out)
    }

    /// Makes the files of every question.
    async fn all_files(&self, cuttings: &[Arc<Cutting>]) -> Result<Vec<Answered>, GivenUp> {
        let mut out = vec![];
        for cutting in cuttings {
            out.push(self.files_of(cutting).await?);
        }
        Ok(out)
    }

    async fn files_of(&self, cutting: &Arc<Cutting>) -> Result<Answered, GivenUp> {
        let headings = headings(cutting).await.map_err(|error| self.progress.give_up(error))?;
        // Files are linked on this thread while others are made on those of answers. After each link it sees whether one of these is done
        // and the next can begin.
        let (send, mut wanted) = unbounded_channel();
        let link = async {
            let mut out = vec![];
            for (at, part) in cutting.parts.iter().enumerate() {
                let made_of = self.made_of(cutting, part).map_err(|error| self.progress.give_up(error))?;
                match self.there_or_linked(&part.path, &made_of).await.map_err(|error| self.progress.give_up(error))? {
                    Some(row) => out.push((at, row)),
                    None => drop(send.send((at, part, made_of))),
                }
                yield_now().await;
            }
            drop(send);
            Ok::<_, GivenUp>(out)
        };
        let make = async {
            let wanted = stream::poll_fn(|context| wanted.poll_recv(context));
            let made = |(at, part, made_of)| async move { self.made(cutting, part, made_of).await.map(|row| (at, row)) };
            let mut making = wanted.map(made).buffered(SIDE_BY_SIDE);
            let (mut out, mut given_up) = (vec![], None);
            while let Some(made) = making.next().await {
                match made {
                    Ok(row) => out.push(row),
                    // Whoever is still writing ends first: the folder is taken away then, and nobody must make it anew.
                    Err(error) => given_up = Some(self.progress.give_up(error)),
                }
            }
            given_up.map_or(Ok(out), Err)
        };
        let (linked, made) = join(link, make).await;
        let mut rows: Vec<(usize, FileRow)> = linked?;
        rows.extend(made?);
        rows.sort_unstable_by_key(|(at, _)| *at);
        let files = rows.into_iter().map(|(at, row)| Resource { row, cut: cutting.parts[at].cut.clone() }).collect();
        Ok(Answered {
            name: cutting.spec.question.clone(),
            question: cutting.question.clone(),
            headings,
            adjustment: cutting.whole.adjustment(),
            units: cutting.whole.units(),
            files,
        })
    }

    /// What a part follows from, as a digest; empty where that cannot be told.
    fn made_of(&self, cutting: &Cutting, part: &Part) -> Result<String, DeskError> {
        Ok(cutting.follows_from(part)?.map_or_else(String::new, |mut from| {
            from.extend(super::PROGRAM.bytes());
            digest(&from)
        }))
    }

    /// A file that was made before the process ended, or that of the edition before where it follows from the same.
    async fn there_or_linked(&self, path: &str, made_of: &str) -> Result<Option<FileRow>, DeskError> {
        self.stopped()?;
        if let Some(row) = self.is_there(path) {
            Progress::add(&self.progress.done, 1);
            return Ok(Some(row));
        }
        let Some(row) = self.taken_over(path, |old| !made_of.is_empty() && old.made_of == made_of)? else { return Ok(None) };
        Progress::add(&self.progress.linked, 1);
        Progress::add(&self.progress.done, 1);
        self.kept(row).await.map(Some)
    }

    /// Makes a part.
    async fn made(&self, cutting: &Arc<Cutting>, part: &Part, made_of: String) -> Result<FileRow, DeskError> {
        self.stopped()?;
        let path = part.path.clone();
        let (cutting, part, folder, progress) = (cutting.clone(), part.clone(), self.folder.clone(), self.progress.clone());
        let (sum, bytes, rows) = self.on_hands(async move { write(&cutting, &part, &folder, &progress).await }).await?;
        let row = FileRow { path, digest: sum, bytes: bytes as i64, rows, made_of, linked: false };
        let row = self.same_or_new(row).await?;
        Progress::add(&self.progress.done, 1);
        Ok(row)
    }

    /// Keeps a file that was made, or takes that of the edition before in its place where the two are the same.
    pub(super) async fn same_or_new(&self, row: FileRow) -> Result<FileRow, DeskError> {
        let path = self.folder.join(&row.path);
        let is_same = |old: &FileRow| old.digest == row.digest;
        let old = self.before.as_ref().and_then(|(_, files)| files.get(&row.path)).filter(|old| is_same(old));
        let row = match old {
            None => row,
            Some(_) => {
                let aside = path.with_extension("made");
                std::fs::rename(&path, &aside).map_err(|e| DeskError::file(&path, e))?;
                let taken = self.taken_over(&row.path, is_same)?;
                let done = if taken.is_some() { std::fs::remove_file(&aside) } else { std::fs::rename(&aside, &path) };
                done.map_err(|e| DeskError::file(&path, e))?;
                taken.map_or_else(|| row.clone(), |linked| FileRow { made_of: row.made_of.clone(), ..linked })
            }
        };
        self.kept(row).await
    }

    /// Writes a small file.
    async fn keep(&self, path: &str, bytes: &[u8], rows: i64) -> Result<FileRow, DeskError> {
        self.stopped()?;
        let mut file = Written::begin(&self.folder, path)?;
        file.buffer().extend_from_slice(bytes);
        let (sum, bytes) = file.finish(&self.progress)?;
        let row = FileRow { path: path.to_owned(), digest: sum, bytes: bytes as i64, rows, made_of: String::new(), linked: false };
        self.same_or_new(row).await
    }

    /// Writes a table that lies beside the bars.
    async fn beside(&self, table: &str, beside: Beside) -> Result<Told, DeskError> {
        let file = File { format: Format::Parquet, ..File::default() };
        let stamp = Stamp::default();
        let style = Style { file, clock: Clock::Utc, stamp: stamp.clone(), about: vec![] };
        let mut encoder = encoder(beside.headings.clone(), style)?;
        let mut bytes = vec![];
        encoder.begin(&mut bytes)?;
        encoder.rows(&beside.rows, &mut bytes)?;
        encoder.finish(&mut bytes)?;
        let row = self.keep(&format!("{table}_{0}/{0}.parquet", beside.name), &bytes, beside.rows.rows as i64).await?;
        Ok(Told { row, file, stamp, headings: beside.headings })
    }

    /// Lets the threads of answers write a file.
    pub(super) async fn on_hands<T: Send + 'static>(
        &self,
        work: impl Future<Output = Result<T, DeskError>> + Send + 'static,
    ) -> Result<T, DeskError> {
        self.research.desk.hands.spawn(work).await.map_err(|e| DeskError::fault("making a file of an edition", e))?
    }

    pub(super) fn stopped(&self) -> Result<(), DeskError> {
        stopped(&self.progress)
    }

    /// What is known of a file that was made before the process ended.
    pub(super) fn is_there(&self, path: &str) -> Option<FileRow> {
        let row = self.kept.as_ref()?.1.get(path)?;
        let there = std::fs::metadata(self.folder.join(path)).is_ok_and(|m| m.len() == row.bytes as u64);
        there.then(|| row.clone())
    }

    /// A file of the edition before under the same name here, where it is the one that is wanted.
    fn taken_over(&self, path: &str, wanted: impl Fn(&FileRow) -> bool) -> Result<Option<FileRow>, DeskError> {
        let Some((folder, files)) = &self.before else { return Ok(None) };
        let Some(old) = files.get(path).filter(|old| wanted(old)) else { return Ok(None) };
        let (from, to) = (folder.join(path), self.folder.join(path));
        // One that somebody cut short is no longer what its record says; `--verify` finds what this does not.
        if std::fs::metadata(&from).is_ok_and(|there| there.len() != old.bytes as u64) {
            return Ok(None);
        }
        let link = || std::fs::hard_link(&from, &to);
        let linked = match link().map_err(|e| e.kind()) {
            // Seldom: the first file in its folder, and one that was left behind.
            Err(ErrorKind::NotFound) => {
                let parent = to.parent().unwrap_or(&self.folder);
                std::fs::create_dir_all(parent).map_err(|e| DeskError::file(parent, e))?;
                link()
            }
            Err(ErrorKind::AlreadyExists) => {
                std::fs::remove_file(&to).map_err(|e| DeskError::file(&to, e))?;
                link()
            }
            linked => linked.map_err(Into::into),
        };
        match linked.or_else(|_| std::fs::copy(&from, &to).map(drop)) {
            Ok(()) => Ok(Some(FileRow { linked: true, ..old.clone() })),
            // Somebody has taken it away: it is made anew.
            Err(_) => Ok(None),
        }
    }

    /// Keeps what a file is, with others of its size: a commit for each of thousands of small ones would take longer than they do.
    async fn kept(&self, row: FileRow) -> Result<FileRow, DeskError> {
        let full = {
            let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
            waiting.push(row.clone());
            let made = waiting.iter().filter(|file| !file.linked);
            waiting.len() >= AT_ONCE || made.map(|file| file.bytes).sum::<i64>() >= BYTES_AT_ONCE
        };
        if full {
            self.keep_waiting().await?;
        }
        Ok(row)
    }

    pub async fn keep_waiting(&self) -> Result<(), DeskError> {
        let files = std::mem::take(&mut *self.waiting.lock().unwrap_or_else(PoisonError::into_inner));
        if let Some((id, _)) = self.kept.as_ref().filter(|_| !files.is_empty()) {
            self.research.desk.store.keep_edition_files(*id, files).await?;
        }
        Ok(())
    }
}

fn stopped(progress: &Progress) -> Result<(), DeskError> {
    match () {
        () if progress.is_cancelled() => Err(DeskError::Over("it was cancelled".to_owned())),
        () if progress.is_stopping() => Err(DeskError::Stopping),
        () if progress.is_given_up() => Err(DeskError::Over("another of its files could not be made".to_owned())),
        () => Ok(()),
    }
}

/// What the columns of the files of a question are.
async fn headings(cutting: &Cutting) -> Result<Vec<Heading>, DeskError> {
    let all: Vec<usize> = (0..cutting.whole.members.len()).collect();
    let whole = cutting.whole.part(&all, None)?;
    Ok(whole.begin_with(room(cutting)).await?.headings)
}

/// Room for the numbers of typed files: one type for all files of all editions.
pub(super) fn room(cutting: &Cutting) -> Option<(Digits, Digits)> {
    let of = |scale| Digits { whole: DIGITS - scale, scale };
    cutting.question.file.format.is_typed().then(|| (of(cutting.spec.price_decimals), of(cutting.spec.volume_decimals)))
}

/// How the files of a question are written. What a typed file says of itself does not change from edition to edition.
pub(super) fn style(question: &Question) -> Style {
    Style { file: question.file, clock: question.shape.clock.clone(), stamp: question.shape.stamp.clone(), about: vec![] }
}

/// Writes one file: its sum, its bytes and its rows.
async fn write(cutting: &Cutting, part: &Part, folder: &Path, progress: &Progress) -> Result<(String, u64, i64), DeskError> {
    let question = &cutting.question;
    let mut style = style(question);
    if question.file.format.is_typed() {
        style.about = vec![
            ("mizuno.question".to_owned(), question.to_json()),
            ("mizuno.adjustment".to_owned(), cutting.whole.adjustment()),
            ("mizuno.units".to_owned(), cutting.whole.units()),
        ];
    }
    let answer = cutting.answer(part)?.begin_with(room(cutting)).await?;
    let fits = fitting(part.path.clone(), question);
    let check = |headings: &[Heading], batch: &Batch| {
        Progress::add(&progress.rows, batch.rows as u64);
        fits(headings, batch)
    };
    fill(answer, style, Written::begin(folder, &part.path)?, progress, check).await
}

/// Writes an answer into a file: its sum, its bytes and its rows. Each batch is looked at first.
pub(super) async fn fill(
    mut answer: Answer,
    style: Style,
    mut file: Written,
    progress: &Progress,
    check: impl Fn(&[Heading], &Batch) -> Result<(), DeskError> + Send,
) -> Result<(String, u64, i64), DeskError> {
    let mut encoder = encoder(answer.headings.clone(), style)?;
    encoder.begin(file.buffer())?;
    let mut rows = 0;
    while let Some(batch) = answer.next().await? {
        stopped(progress)?;
        check(&answer.headings, &batch)?;
        rows += batch.rows as i64;
        encoder.rows(&batch, file.buffer())?;
        file.flush(progress, false)?;
    }
    encoder.finish(file.buffer())?;
    let (sum, bytes) = file.finish(progress)?;
    Ok((sum, bytes, rows))
}

/// Refuses a batch with a number that has no room in its column, where a file keeps numbers exactly.
pub(super) fn fitting(path: String, question: &Question) -> impl Fn(&[Heading], &Batch) -> Result<(), DeskError> + Send + use<> {
    let held = question.file.format == Format::Parquet && !question.file.floats;
    move |headings, batch| match held {
        true => fits(headings, batch).map_err(|what| DeskError::Invalid(format!("{path}: {what}"))),
        false => Ok(()),
    }
}

/// Whether every number has room in its column; else what has not.
fn fits(headings: &[Heading], batch: &Batch) -> Result<(), String> {
    for (heading, cells) in headings.iter().zip(&batch.columns) {
        let (Kind::Number(room), Cells::Numbers(cells)) = (&heading.kind, cells) else { continue };
        // Below this many units of its own last digit a number has no more digits before the point than there is room for.
        let least = |scale: u8| power(room.whole + scale).map_or(u64::MAX, i64::unsigned_abs);
        let bounds: Vec<u64> = (0..=room.scale).map(least).collect();
        let bound = |scale: u8| bounds.get(usize::from(scale)).copied().unwrap_or(0);
        if let Some((mantissas, scale)) = cells.alike() {
            let (low, high) = mantissas.iter().fold((0, 0), |(low, high): (i64, i64), n| (low.min(*n), high.max(*n)));
            if low.unsigned_abs().max(high.unsigned_abs()) < bound(scale) {
                continue;
            }
        }
        if let Some(number) = cells.iter().flatten().find(|n| n.mantissa.unsigned_abs() >= bound(n.scale)) {
            return Err(format!(
                "{number} in the column {} has no room in {} digits with {} after the point; write other price_decimals or volume_decimals into \
                 the spec",
                heading.name,
                room.whole + room.scale,
                room.scale
            ));
        }
    }
    Ok(())
}
