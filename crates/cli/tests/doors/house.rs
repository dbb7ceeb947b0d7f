//! The house: which crate may use which, that rooms know nothing of the wire, and that no two files import each other.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

/// Each crate, and the crates of ours that it may use.
const MAY_USE: [(&str, &[&str]); 12] = [
    ("core", &[]),
    ("api", &[]),
    ("config", &["core"]),
    ("draw", &[]),
    ("store", &["core"]),
    ("sources", &["core", "config"]),
    ("desk", &["core", "config", "store", "sources"]),
    ("collect", &["core", "config", "store", "sources", "desk"]),
    ("research", &["core", "config", "store", "sources", "desk", "draw"]),
    ("service", &["core", "config", "store", "sources", "desk", "collect", "research", "api"]),
    ("sim", &["core", "config"]),
    ("cli", &["core", "config", "store", "sources", "desk", "collect", "research", "service", "api", "sim"]),
];
/// What belongs to the doors, and to no room.
const DOORS: [&str; 4] = ["actix-web", "utoipa", "clap", "rust-embed"];
const ROOMS: [&str; 8] = ["core", "config", "draw", "store", "sources", "desk", "collect", "research"];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

/// What a crate depends on, for itself and not for its tests.
fn dependencies(name: &str) -> Vec<String> {
    let text = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
    let manifest: toml::Table = text.parse().unwrap();
    manifest["dependencies"].as_table().unwrap().keys().cloned().collect()
}

#[test]
fn dependencies_run_one_way_and_rooms_know_no_door() {
    let there: BTreeSet<String> = fs::read_dir(crates()).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    let listed: BTreeSet<String> = MAY_USE.iter().map(|(name, _)| (*name).to_owned()).collect();
    assert_eq!(there, listed, "a new crate takes its place in this list");
    for (name, may) in MAY_USE {
        for used in dependencies(name) {
            if let Some(ours) = used.strip_prefix("mizuno-") {
                assert!(may.contains(&ours), "{name} uses {ours}");
            }
            assert!(!ROOMS.contains(&name) || !DOORS.contains(&used.as_str()), "{name} is a room, and uses {used}");
        }
    }
}

/// The files of a crate by their module paths, as `market/calendar`.
fn modules(src: &Path, within: &str, out: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(src).unwrap().map(Result::unwrap) {
        let (path, name) = (entry.path(), entry.file_name().into_string().unwrap());
        let stem = name.trim_end_matches(".rs");
        if path.is_dir() {
            modules(&path, &format!("{within}{name}/"), out);
        } else if stem == "mod" {
            out.insert(within.trim_end_matches('/').to_owned(), fs::read_to_string(path).unwrap());
        } else if !["lib", "main"].contains(&stem) && !stem.ends_with("_test") && name.ends_with(".rs") {
            out.insert(format!("{within}{stem}"), fs::read_to_string(path).unwrap());
        }
    }
}

/// The code of a file without comments and without its tests.
fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]").next().unwrap_or_default();
    text.lines().map(|line| line.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// The words that follow `start` as a path or a tree of paths: every name in `crate::{a::{b, C}, d}`.
fn named_after(code: &str, start: &str) -> BTreeSet<String> {
    let mut out = BTreeSet::new();
    for (at, _) in code.match_indices(start) {
        let rest = &code[at + start.len()..];
        let mut depth = 0;
        let tree: String = rest
            .chars()
            .take_while(|c| {
                depth += i32::from(*c == '{') - i32::from(*c == '}');
                *c == '}' || c.is_alphanumeric() || "_:{".contains(*c) || (depth > 0 && (c.is_whitespace() || *c == ','))
            })
            .collect();
        out.extend(tree.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|w| !w.is_empty()).map(str::to_owned));
    }
    out
}

/// Which files of a crate each of its files imports from.
fn imports(modules: &BTreeMap<String, String>) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut by_name: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for module in modules.keys() {
        by_name.entry(module.rsplit('/').next().unwrap()).or_default().push(module);
    }
    let mut out: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for (module, text) in modules {
        let code = code(text);
        let to = out.entry(module).or_default();
        for name in named_after(&code, "crate::") {
            to.extend(by_name.get(name.as_str()).into_iter().flatten());
        }
        let parent = module.rsplit_once('/').map_or(String::new(), |(parent, _)| format!("{parent}/"));
        for name in named_after(&code, "super::") {
            to.extend(modules.get_key_value(&format!("{parent}{name}")).map(|(known, _)| known.as_str()));
        }
        // A folder and what is in it belong together.
        to.retain(|other| *other != module && !other.starts_with(&format!("{module}/")) && !module.starts_with(&format!("{other}/")));
    }
    out
}

/// A way from a file back to itself.
fn circle<'m>(imports: &BTreeMap<&'m str, BTreeSet<&'m str>>) -> Option<Vec<&'m str>> {
    fn walk<'m>(
        at: &'m str,
        way: &mut Vec<&'m str>,
        done: &mut BTreeSet<&'m str>,
        imports: &BTreeMap<&'m str, BTreeSet<&'m str>>,
    ) -> Option<Vec<&'m str>> {
        if let Some(begin) = way.iter().position(|seen| *seen == at) {
            return Some(way[begin..].to_vec());
        }
        if done.contains(at) {
            return None;
        }
        way.push(at);
        let found = imports[at].iter().find_map(|next| walk(next, way, done, imports));
        way.pop();
        done.insert(at);
        found
    }
    let (mut way, mut done) = (vec![], BTreeSet::new());
    imports.keys().find_map(|from| walk(from, &mut way, &mut done, imports))
}

#[test]
fn no_two_files_import_each_other_round_a_circle() {
    for (name, _) in MAY_USE {
        let mut found = BTreeMap::new();
        modules(&crates().join(name).join("src"), "", &mut found);
        if let Some(circle) = circle(&imports(&found)) {
            panic!("in {name}, these import each other: {}", circle.join(" -> "));
        }
    }
}

#[test]
fn a_circle_is_found_where_there_is_one() {
    let files =
        [("a", "use crate::{b::Thing, c};"), ("b", "use super::c::Other;"), ("c", "// use crate::a;\nfn f() { crate::a::g() }"), ("d", "")];
    let files: BTreeMap<String, String> = files.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect();
    assert_eq!(circle(&imports(&files)), Some(vec!["a", "b", "c"]));
    let mut cut = files.clone();
    cut.insert("c".to_owned(), "// use crate::a;".to_owned());
    assert_eq!(circle(&imports(&cut)), None);
}

#[test]
fn rooms_never_tell_or_compare_by_debug_text() {
    for name in ROOMS {
        let mut found = BTreeMap::new();
        modules(&crates().join(name).join("src"), "", &mut found);
        for (module, text) in &found {
            assert!(!code(text).contains(":?}"), "{name}/{module} writes a value for people or for keeps in its debug form");
        }
    }
}

#[test]
fn no_test_stands_where_it_is_never_run() {
    for (name, _) in MAY_USE {
        let manifest: toml::Table = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap().parse().unwrap();
        let runs = |part: &toml::Value| part.get("test").and_then(toml::Value::as_bool).unwrap_or(true);
        let programs = manifest.get("bin").and_then(toml::Value::as_array).into_iter().flatten();
        let is_run = manifest.get("lib").into_iter().chain(programs).all(runs);
        let mut found = BTreeMap::new();
        modules(&crates().join(name).join("src"), "", &mut found);
        let tests: Vec<&String> =
            found.iter().filter(|(_, text)| text.contains("#[test]") || text.contains("::test]")).map(|(m, _)| m).collect();
        assert!(is_run || tests.is_empty(), "{name} is not compiled for tests, and there are some in {tests:?}");
    }
    let tests = fs::read_dir(crates()).unwrap().flatten().filter_map(|e| fs::read_dir(e.path().join("tests")).ok());
    for group in tests.flat_map(|all| all.flatten().map(|e| e.path())).filter(|p| p.join("main.rs").exists()) {
        let named = fs::read_to_string(group.join("main.rs")).unwrap();
        for file in fs::read_dir(&group).unwrap().flatten().map(|e| e.path()).filter(|p| !p.ends_with("main.rs")) {
            let module = file.file_stem().unwrap().to_string_lossy().into_owned();
            assert!(named.contains(&format!("\nmod {module};")), "{} is no part of {}", file.display(), group.display());
        }
    }
}
