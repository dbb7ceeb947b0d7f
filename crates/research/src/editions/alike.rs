//! Files of an edition whose bytes differ: whether they say the same all the same, as those of two versions of the program may.
//!
//! A Parquet file says its columns, their types and its rows, however they are packed. The data package says what it says of the files, but for
//! their sums and sizes and for the version of the program; the page is drawn from it. Any other file says its bytes.

use super::{PACKAGE, PAGE};
use parquet::file::reader::{FileReader, SerializedFileReader};
use serde_json::Value;
use std::{fs::File, path::Path};

/// Whether the file at `path` in one folder says the same as in another; what cannot be read says something else.
pub(super) fn says_the_same(path: &str, here: &Path, there: &Path) -> bool {
    match path {
        // The page is drawn from what the package says, and from tables that are files of their own.
        PACKAGE | PAGE => package(here).is_some_and(|of_here| package(there) == Some(of_here)),
        _ if path.ends_with(".parquet") => same_rows(&here.join(path), &there.join(path)).unwrap_or(false),
        _ => false,
    }
}

fn same_rows(here: &Path, there: &Path) -> Option<bool> {
    let open = |path: &Path| SerializedFileReader::new(File::open(path).ok()?).ok();
    let (here, there) = (open(here)?, open(there)?);
    let columns = |file: &SerializedFileReader<File>| {
        let schema = file.metadata().file_metadata().schema_descr_ptr();
        schema.columns().iter().map(|c| (c.name().to_owned(), c.logical_type_ref().cloned(), c.physical_type())).collect::<Vec<_>>()
    };
    if columns(&here) != columns(&there) {
        return Some(false);
    }
    let (mut a, mut b) = (here.get_row_iter(None).ok()?, there.get_row_iter(None).ok()?);
    loop {
        match (a.next(), b.next()) {
            (None, None) => return Some(true),
            (Some(Ok(x)), Some(Ok(y))) if x == y => {}
            _ => return Some(false),
        }
    }
}

/// What the data package of a folder says, without what follows from the bytes of the files.
fn package(folder: &Path) -> Option<Value> {
    let mut read: Value = serde_json::from_slice(&std::fs::read(folder.join(PACKAGE)).ok()?).ok()?;
    read.get_mut("mizuno")?.as_object_mut()?.remove("program");
    for resource in read.get_mut("resources")?.as_array_mut()? {
        let resource = resource.as_object_mut()?;
        resource.retain(|key, _| key != "hash" && key != "bytes");
    }
    Some(read)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use mizuno_store::table::{Column, Kind, TableWriter, Values};
    use tempfile::TempDir;

    /// A file of one column in groups of so many rows.
    fn packed(values: &[i64], group: usize, kind: Kind) -> Bytes {
        let columns = [Column { name: "close".into(), kind, optional: false }];
        let mut file = TableWriter::for_others(vec![], &columns, &[]).unwrap();
        for some in values.chunks(group) {
            file.rows(&[Values::all(some.iter().copied())]).unwrap();
        }
        file.finish().unwrap().into()
    }

    fn compared(path: &str, here: &[u8], there: &[u8]) -> bool {
        let folders = [TempDir::new().unwrap(), TempDir::new().unwrap()];
        for (folder, bytes) in folders.iter().zip([here, there]) {
            std::fs::write(folder.path().join(path), bytes).unwrap();
        }
        says_the_same(path, folders[0].path(), folders[1].path())
    }

    #[test]
    fn rows_packed_otherwise_are_the_same_and_other_rows_and_types_are_not() {
        let prices = Kind::Decimal(2);
        let whole = packed(&[750, 755, 760], 3, prices.clone());
        assert_ne!(whole, packed(&[750, 755, 760], 2, prices.clone()));
        assert!(compared("a.parquet", &whole, &packed(&[750, 755, 760], 2, prices.clone())));
        for other in [
            packed(&[750, 755, 761], 2, prices.clone()),
            packed(&[750, 755], 2, prices.clone()),
            packed(&[750, 755, 760, 760], 2, prices),
            packed(&[750, 755, 760], 3, Kind::Decimal(3)),
            Bytes::from_static(b"no such file"),
        ] {
            assert!(!compared("a.parquet", &whole, &other));
            assert!(!compared("a.parquet", &other, &whole));
        }
    }

    #[test]
    fn a_package_may_differ_in_sums_sizes_and_version_alone() {
        let package = |program: &str, hash: &str, rows: u32| {
            format!(
                "{{\"resources\":[{{\"path\":\"a\",\"hash\":\"{hash}\",\"bytes\":7,\"rows\":{rows}}}],\"mizuno\":{{\"program\":\"{program}\"}}}}"
            )
        };
        assert!(compared(PACKAGE, package("0.1.0", "sha256:aa", 3).as_bytes(), package("0.2.0", "sha256:bb", 3).as_bytes()));
        assert!(!compared(PACKAGE, package("0.1.0", "sha256:aa", 3).as_bytes(), package("0.1.0", "sha256:aa", 4).as_bytes()));
        assert!(!compared(PACKAGE, b"{}", b"{}"), "no package at all");
        assert!(!compared("closes.csv", b"7.50\n", b"7.5\n"), "text says its bytes");
        assert!(!says_the_same(PAGE, Path::new("nowhere"), Path::new("nowhere")));
    }
}
