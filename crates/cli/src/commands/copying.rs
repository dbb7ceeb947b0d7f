//! A copy of an edition in a folder, kept up to date.
//!
//! The folder holds editions, each whole in a folder of its own, and `current`, a link to the newest. A new one is put together under
//! another name, from what the copy has already and what has to be fetched, and shows when every file has its sum. Killed at any moment,
//! `current` is the old or the new, and the next time goes on from what has been fetched.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use mizuno_api::{EditionFile, EditionTold};
use reqwest::header;
use ring::digest::{Context, SHA256};
use std::{
    collections::HashMap,
    fs::{self, File, OpenOptions},
    io::{ErrorKind, Read, Write},
    path::{Path, PathBuf},
};

/// The link to the newest.
const CURRENT: &str = "current";
const SUMS: &str = "SHA256SUMS";
/// A file that comes with another sum is asked for again so many times.
const TRIES: usize = 2;

fn cannot(path: &Path, error: &std::io::Error) -> Failure {
    let what = if error.kind() == ErrorKind::StorageFull { "the disk is full; make room and copy again" } else { "cannot be written" };
    Failure::new(format!("{}: {what} ({error}); what was there before is untouched", path.display()))
}

/// Brings a copy up to date.
pub async fn copy(client: &Client, told: EditionTold, folder: &Path) -> Result<Code, Failure> {
    let edition = &told.edition;
    let Some(sums) = edition.sums.as_ref().filter(|_| edition.state == "made") else {
        let why = edition.withdrawn.as_ref().map(|w| format!(" by {}: {}", w.by, w.why)).unwrap_or_default();
        return Err(Failure::new(format!("{}/{} is {}{why}; the copy stays as it is", edition.spec, edition.number, edition.state)));
    };
    fs::create_dir_all(folder).map_err(|e| cannot(folder, &e))?;
    let lock = File::create(folder.join(".lock")).map_err(|e| cannot(folder, &e))?;
    if lock.try_lock().is_err() {
        return Err(Failure::new(format!("{} is being brought up to date already; wait for that", folder.display())));
    }
    // The sum is part of the name: in a database made anew, another edition may have that number. One that somebody damaged is put together under
    // the second name, so that `current` is there all the while.
    let name = format!("{}-{}-{}", edition.spec, edition.number, &sums[..8]);
    let names = [name.clone(), format!("{name}-mended")];
    let before = fs::read_link(folder.join(CURRENT)).ok();
    let is_current = |name: &String| before.as_deref() == Some(Path::new(name));
    let old = before.as_ref().map(|link| folder.join(link)).filter(|old| old.exists());
    let is_whole =
        |name: &&String| told.content.iter().all(|file| sum_of(&folder.join(name).join(&file.path)).as_ref() == Some(&file.sha256));
    if let Some(whole) = names.iter().find(is_whole) {
        switch(folder, whole)?;
        // What an earlier time left when it was killed goes now; whoever reads the one before goes on.
        let other = before.as_deref().and_then(Path::to_str).filter(|before| before != whole).map(str::to_owned);
        let other = other.or_else(|| newest_other(folder, whole, &edition.spec)).unwrap_or_default();
        remove_others(folder, &[whole, &other], &edition.spec);
        return conclude(client, &told, folder, Fetched::default(), is_current(whole));
    }
    let coming = folder.join(format!(".coming-{name}"));
    let name = names.iter().find(|name| !is_current(name)).unwrap_or(&name);
    let place = folder.join(name);
    let _ = fs::remove_dir_all(&place);
    let known = old.as_deref().map(known).unwrap_or_default();
    let mut fetched = Fetched::default();
    for file in &told.content {
        let to = coming.join(sound(&file.path)?);
        if sum_of(&to).as_deref() == Some(&file.sha256) {
            continue;
        }
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent).map_err(|e| cannot(parent, &e))?;
        }
        let have = known.get(&file.sha256).filter(|path| sum_of(path).as_deref() == Some(&file.sha256));
        if let Some(path) = have {
            let _ = fs::remove_file(&to);
            fs::hard_link(path, &to).or_else(|_| fs::copy(path, &to).map(drop)).map_err(|e| cannot(&to, &e))?;
            continue;
        }
        let address = format!("{}/api/v1/editions/{}/{}/files/{}", client.base(), edition.spec, edition.number, file.path);
        fetched.bytes += fetch(client, &address, file, &to).await?;
        fetched.files += 1;
    }
    let listed = sum_of(&coming.join(SUMS));
    if listed.as_ref() != Some(sums) {
        return Err(Failure::new(format!("{SUMS} of {name} is not the one that its record tells of; the copy stays as it is")));
    }
    sync(&coming).map_err(|e| cannot(&coming, &e))?;
    fs::rename(&coming, &place).map_err(|e| cannot(&place, &e))?;
    switch(folder, name)?;
    // Whoever reads the one before goes on; what is older still goes, and what is damaged.
    let before = before.as_deref().and_then(Path::to_str).filter(|before| names.iter().all(|name| name != before));
    remove_others(folder, &[name, before.unwrap_or_default()], &edition.spec);
    conclude(client, &told, folder, fetched, false)
}

/// What was fetched.
#[derive(Default)]
struct Fetched {
    files: u64,
    bytes: u64,
}

fn conclude(client: &Client, told: &EditionTold, folder: &Path, fetched: Fetched, already: bool) -> Result<Code, Failure> {
    let (edition, current) = (&told.edition, folder.join(CURRENT));
    if client.json {
        show::json(&serde_json::json!({
            "edition": format!("{}/{}", edition.spec, edition.number),
            "label": edition.label,
            "folder": current,
            "files_fetched": fetched.files,
            "bytes_fetched": fetched.bytes,
        }))?;
        return Ok(Code::Fine);
    }
    let name = format!("{}/{} ({})", edition.spec, edition.number, edition.label);
    match already {
        true => out!("{} is {name} already, and every file has its sum", current.display()),
        false => {
            let all = fetched.files == told.content.len() as u64;
            let others = if all { "" } else { "; the others were here" };
            let (files, bytes) = (told.content.len(), show::bytes(fetched.bytes));
            out!("{} is {name}: {} of {files} files fetched, {bytes}{others}", current.display(), fetched.files);
        }
    }
    Ok(Code::Fine)
}

/// A path that leads nowhere but into the folder.
fn sound(path: &str) -> Result<&Path, Failure> {
    let parts = || Path::new(path).components();
    match parts().next().is_some() && parts().all(|part| matches!(part, std::path::Component::Normal(_))) {
        true => Ok(Path::new(path)),
        false => Err(Failure::new(format!("the service names a file `{path}`, which would not lie in the copy; nothing is written"))),
    }
}

/// The files of an edition by their sums, as its own list has them.
fn known(folder: &Path) -> HashMap<String, PathBuf> {
    let text = fs::read_to_string(folder.join(SUMS)).unwrap_or_default();
    let mut out: HashMap<String, PathBuf> =
        text.lines().filter_map(|line| line.split_once("  ")).map(|(sum, path)| (sum.to_owned(), folder.join(path))).collect();
    out.extend(sum_of(&folder.join(SUMS)).map(|sum| (sum, folder.join(SUMS))));
    out
}

/// The sum of a file, if it can be read.
fn sum_of(path: &Path) -> Option<String> {
    let (mut file, mut sum) = (File::open(path).ok()?, Context::new(&SHA256));
    let mut piece = vec![0; 256 << 10];
    loop {
        match file.read(&mut piece).ok()? {
            0 => return Some(sum.finish().as_ref().iter().map(|b| format!("{b:02x}")).collect()),
            n => sum.update(&piece[..n]),
        }
    }
}

/// Fetches a file, from where an earlier try ended; how many bytes came.
async fn fetch(client: &Client, address: &str, file: &EditionFile, to: &Path) -> Result<u64, Failure> {
    let part = to.with_file_name(format!("{}.part", to.file_name().unwrap_or_default().to_string_lossy()));
    let mut came = 0;
    for _ in 0..TRIES {
        let there = fs::metadata(&part).map_or(0, |m| m.len());
        let mut request = client.request(address);
        if there > 0 {
            request =
                request.header(header::RANGE, format!("bytes={there}-")).header(header::IF_RANGE, format!("\"{}\"", &file.sha256[..32]));
        }
        let goes_on = there > 0 && there < file.bytes as u64;
        if there == 0 || goes_on {
            let mut response = client.answer(request).await?;
            let appends = response.status() == reqwest::StatusCode::PARTIAL_CONTENT;
            let mut out = OpenOptions::new()
                .create(true)
                .append(appends)
                .write(true)
                .truncate(!appends)
                .open(&part)
                .map_err(|e| cannot(&part, &e))?;
            while let Some(piece) = response.chunk().await.map_err(|_| {
                Failure::new(format!("the connection broke while {} came; copy again, and it goes on from there", file.path))
            })? {
                came += piece.len() as u64;
                out.write_all(&piece).map_err(|e| cannot(&part, &e))?;
            }
            out.sync_all().map_err(|e| cannot(&part, &e))?;
        }
        if sum_of(&part).as_deref() == Some(&file.sha256) {
            fs::rename(&part, to).map_err(|e| cannot(to, &e))?;
            return Ok(came);
        }
        fs::remove_file(&part).map_err(|e| cannot(&part, &e))?;
    }
    Err(Failure::new(format!(
        "{} came {TRIES} times with another sum than its record has; mizuno editions NAME --verify says whether it is damaged there",
        file.path
    )))
}

/// Lets `current` be another edition, in one step.
fn switch(folder: &Path, name: &str) -> Result<(), Failure> {
    let (link, next) = (folder.join(CURRENT), folder.join(".next"));
    let switched = || {
        match fs::remove_file(&next) {
            Err(e) if e.kind() != ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        std::os::unix::fs::symlink(name, &next)?;
        fs::rename(&next, &link)?;
        File::open(folder)?.sync_all()
    };
    switched().map_err(|e| cannot(&link, &e))
}

fn sync(folder: &Path) -> std::io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            sync(&entry.path())?;
        }
    }
    File::open(folder)?.sync_all()
}

/// The whole edition of the spec with the highest number, besides this one.
fn newest_other(folder: &Path, but: &str, spec: &str) -> Option<String> {
    let names = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name != but && number_of(name, spec).is_some()).max_by_key(|name| number_of(name, spec))
}

/// The number of an edition of the spec by the name of its folder; another spec may begin with the same word.
fn number_of(name: &str, spec: &str) -> Option<i64> {
    name.strip_prefix(spec)?.strip_prefix('-')?.split('-').next()?.parse().ok()
}

/// Removes other editions of the spec, and what was put together of them.
fn remove_others(folder: &Path, keep: &[&str], spec: &str) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let of_spec = number_of(name.strip_prefix(".coming-").unwrap_or(&name), spec).is_some();
        if of_spec && !keep.contains(&name.as_str()) && entry.file_type().is_ok_and(|t| t.is_dir()) {
            let _ = fs::remove_dir_all(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_written_nowhere_but_into_the_copy() {
        assert!(sound("closes/2025-03.csv").is_ok());
        for path in ["", "/etc/passwd", "../other", "closes/../../up", "."] {
            assert!(sound(path).is_err(), "{path}");
        }
    }

    #[test]
    fn what_is_there_is_known_by_its_sum_and_others_of_the_spec_are_removed() {
        let dir = std::env::temp_dir().join(format!("mizuno-copy-{}", std::process::id()));
        let edition = dir.join("monthly-1-aaaaaaaa");
        fs::create_dir_all(&edition).unwrap();
        fs::write(edition.join("a.csv"), "date\n").unwrap();
        let sum = sum_of(&edition.join("a.csv")).unwrap();
        fs::write(edition.join(SUMS), format!("{sum}  a.csv\n")).unwrap();
        assert_eq!(known(&edition).get(&sum), Some(&edition.join("a.csv")));
        for name in ["monthly-2-bbbbbbbb", ".coming-monthly-3-cccccccc", "evening-1-dddddddd", "monthly-too-1-eeeeeeee"] {
            fs::create_dir_all(dir.join(name)).unwrap();
        }
        assert_eq!(newest_other(&dir, "monthly-2-bbbbbbbb", "monthly").as_deref(), Some("monthly-1-aaaaaaaa"));
        assert_eq!(newest_other(&dir, "evening-1-dddddddd", "evening"), None);
        switch(&dir, "monthly-1-aaaaaaaa").unwrap();
        remove_others(&dir, &["monthly-1-aaaaaaaa"], "monthly");
        let mut left: Vec<String> = fs::read_dir(&dir).unwrap().flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect();
        left.sort();
        assert_eq!(left, ["current", "evening-1-dddddddd", "monthly-1-aaaaaaaa", "monthly-too-1-eeeeeeee"]);
        assert!(dir.join("current/a.csv").exists());
        fs::remove_dir_all(&dir).unwrap();
    }
}
