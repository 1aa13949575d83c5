//! How the files of the workspace stand to each other: they import downwards, without
//! circles. docs/architecture.md draws the floors.

#![allow(clippy::unwrap_used, missing_docs)]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// From the bottom up.
const CRATES: [&[&str]; 6] =
    [&["core"], &["bpf", "host"], &["gate"], &["knock"], &["reach"], &["cli"]];

/// Modules of a crate from the bottom up; what is not named may stand anywhere.
const FLOORS: [(&str, &[&[&str]]); 3] = [
    (
        "core",
        &[
            &["bytes", "moment", "visible", "names"],
            &["packet"],
            &["orders"],
            &["host"],
            &["brief"],
            &["decision"],
            &["tables"],
            &["analysis"],
        ],
    ),
    (
        "gate",
        &[
            &["lock", "enforceable", "contract"],
            &["kernel::emit"],
            &["kernel::error"],
            &["kernel::support"],
            &["kernel::kept"],
            &["kernel::gate"],
            &["kernel::post"],
            &["kernel::trial", "kernel::query", "kernel::drift", "kernel::rehearsal"],
            &["kernel::control"],
        ],
    ),
    (
        "cli",
        &[
            &["ending", "terminal"],
            &["failure"],
            &["arguments", "attachments", "chosen", "history", "sarif", "store"],
            &["acts"],
            &["commands"],
            &["fuzzing"],
        ],
    ),
];

type Graph = BTreeMap<String, BTreeSet<String>>;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

fn sources(directory: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(directory).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("main.rs") {
            found.push(path);
        }
    }
}

/// The code without comments, and without the tests at the end.
fn code(path: &Path) -> String {
    let text = fs::read_to_string(path).unwrap();
    let text = text.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
    text.lines().map(|l| l.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// `a::{b, c::{d}}` → `a::b`, `a::c::d`.
fn flat(item: &str) -> Vec<String> {
    let Some((before, inside)) = item.split_once('{') else { return vec![item.trim().to_owned()] };
    let inside = inside.trim_end().strip_suffix('}').unwrap_or(inside);
    let (mut depth, mut parts) = (0, vec![String::new()]);
    for c in inside.chars() {
        match c {
            ',' if depth == 0 => parts.push(String::new()),
            _ => {
                depth += i32::from(c == '{') - i32::from(c == '}');
                parts.last_mut().unwrap().push(c);
            }
        }
    }
    let whole = parts.iter().filter(|part| !part.trim().is_empty());
    whole.flat_map(|part| flat(&format!("{}{}", before.trim(), part.trim()))).collect()
}

/// Paths that a file names: its imports, but for those that it only passes on, and
/// whole paths in its code.
fn paths(code: &str) -> Vec<String> {
    let (mut found, mut rest) = (Vec::new(), String::new());
    let mut statements = code.split_inclusive(';');
    for statement in &mut statements {
        let begin = statement.rfind("\nuse ").map(|at| at + 1);
        let begin = begin.or_else(|| statement.starts_with("use ").then_some(0));
        match begin {
            Some(at) if !statement[at..].contains("\npub ") => {
                rest += &statement[..at];
                found.extend(flat(statement[at + 4..].trim_end_matches(';')));
            }
            _ if statement.contains("pub use ") || statement.contains("pub(crate) use ") => {}
            _ => rest += statement,
        }
    }
    for word in rest.split(|c: char| !c.is_alphanumeric() && c != '_' && c != ':') {
        if word.starts_with("crate::") || word.starts_with("super::") {
            found.push(word.to_owned());
        }
    }
    found
}

fn module(root: &Path, path: &Path) -> String {
    let inner = path.strip_prefix(root).unwrap().with_extension("");
    let mut parts: Vec<&str> = inner.iter().map(|part| part.to_str().unwrap()).collect();
    if matches!(parts.last(), Some(&("mod" | "lib"))) {
        parts.pop();
    }
    parts.join("::")
}

/// Which file a path leads to.
fn leads_to(modules: &BTreeSet<String>, from: &str, path: &str) -> Option<String> {
    let mut base: Vec<&str> = from.split("::").filter(|part| !part.is_empty()).collect();
    let mut steps = path.split("::").map(str::trim).peekable();
    match *steps.peek()? {
        "crate" => {
            base.clear();
            steps.next();
        }
        "self" => {
            steps.next();
        }
        "super" => {
            while steps.next_if_eq(&"super").is_some() {
                base.pop();
            }
        }
        child if !modules.contains(&[&base[..], &[child]].concat().join("::")) => return None,
        _ => {}
    }
    base.extend(steps);
    (0..=base.len()).rev().map(|n| base[..n].join("::")).find(|name| modules.contains(name))
}

fn imports(name: &str) -> Graph {
    let root = crates().join(name).join("src");
    let mut files = Vec::new();
    sources(&root, &mut files);
    let modules: BTreeSet<String> = files.iter().map(|path| module(&root, path)).collect();
    let edges = |path: &PathBuf| {
        let from = module(&root, path);
        let to = paths(&code(path)).into_iter().filter_map(|p| leads_to(&modules, &from, &p));
        let to = to.filter(|to| *to != from).collect();
        (from, to)
    };
    files.iter().map(edges).collect()
}

/// A way from a file back to itself.
fn circle(graph: &Graph) -> Option<Vec<String>> {
    fn walk(graph: &Graph, way: &mut Vec<String>, done: &mut BTreeSet<String>) -> bool {
        let here = way.last().unwrap().clone();
        for next in graph.get(&here).into_iter().flatten() {
            let back = way.iter().position(|before| before == next);
            way.push(next.clone());
            if let Some(begin) = back {
                way.drain(..begin);
                return true;
            }
            if !done.contains(next) && walk(graph, way, done) {
                return true;
            }
            way.pop();
        }
        done.insert(here);
        false
    }
    let mut done = BTreeSet::new();
    graph.keys().find_map(|begin| {
        let mut way = vec![begin.clone()];
        walk(graph, &mut way, &mut done).then_some(way)
    })
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    for name in CRATES.concat() {
        let graph = imports(name);
        assert!(graph.len() > 5 && graph.values().any(|to| !to.is_empty()), "{name}: nothing read");
        assert_eq!(circle(&graph), None, "in the crate {name}");
    }
}

#[test]
fn no_file_imports_from_a_floor_above() {
    for (name, floors) in FLOORS {
        let floor = |module: &str| {
            let is_in = |room: &&str| module == *room || module.starts_with(&format!("{room}::"));
            floors.iter().position(|rooms| rooms.iter().any(is_in))
        };
        let up: Vec<String> = imports(name)
            .iter()
            .flat_map(|(from, all)| all.iter().map(move |to| (from, to)))
            .filter(|(from, to)| matches!((floor(from), floor(to)), (Some(a), Some(b)) if a < b))
            .map(|(from, to)| format!("{from} → {to}"))
            .collect();
        assert!(up.is_empty(), "in the crate {name}: {up:?}");
    }
}

/// What two commands share is an act. The demo plays commands.
#[test]
fn no_command_knows_another_but_the_demo() {
    let command = |module: &str| {
        module.strip_prefix("commands::").map(|rest| rest.split("::").next().unwrap().to_owned())
    };
    for (from, all) in imports("cli") {
        let Some(own) = command(&from).filter(|own| own != "demo") else { continue };
        let others = all.iter().filter_map(|to| command(to)).filter(|other| *other != own);
        assert_eq!(others.collect::<Vec<_>>(), [""; 0], "{from}");
    }
}

#[test]
fn no_crate_knows_one_on_a_floor_above() {
    for (floor, names) in CRATES.iter().enumerate() {
        for name in *names {
            let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
            let own = manifest.split("[dev-dependencies]").next().unwrap_or_default();
            assert!(!own.contains("tipstaff-testing"), "{name} has what is for tests");
            for above in CRATES[floor..].concat().iter().filter(|above| *above != name) {
                assert!(!own.contains(&format!("tipstaff-{above}")), "{name} knows {above}");
            }
        }
    }
}

#[test]
fn only_the_system_calls_are_unsafe() {
    for name in CRATES.concat().into_iter().chain(["testing"]) {
        let mut files = Vec::new();
        sources(&crates().join(name).join("src"), &mut files);
        for path in files.iter().filter(|path| !path.starts_with(crates().join("bpf/src/sys"))) {
            let code = code(path);
            let uses = ["unsafe {", "unsafe fn", "unsafe impl", "allow(unsafe_code)"];
            assert!(!uses.iter().any(|word| code.contains(word)), "{}", path.display());
        }
    }
}

#[test]
fn a_circle_is_found() {
    let graph = |edges: &[(&str, &str)]| {
        let mut graph = Graph::new();
        for (from, to) in edges {
            graph.entry((*from).into()).or_default().insert((*to).into());
        }
        graph
    };
    assert_eq!(circle(&graph(&[("a", "b"), ("b", "c"), ("a", "c")])), None);
    let found = circle(&graph(&[("z", "a"), ("a", "b"), ("b", "c"), ("c", "a")])).unwrap();
    assert_eq!(found, ["a", "b", "c", "a"]);
    assert_eq!(flat("a::{b, c::{d, e}}"), ["a::b", "a::c::d", "a::c::e"]);
    let own = "use super::x::{self, Y};\npub use z::Z;\nfn f() { crate::k::l(); }";
    assert_eq!(paths(own), ["super::x::self", "super::x::Y", "crate::k::l"]);
}

/// A file is read in one sitting, a function on one screen or two.
#[test]
fn no_file_has_more_than_500_lines_and_no_function_more_than_100() {
    let mut files = Vec::new();
    for entry in fs::read_dir(crates()).unwrap().flatten() {
        for part in ["src", "tests", "benches"] {
            let directory = entry.path().join(part);
            if directory.is_dir() {
                sources(&directory, &mut files);
            }
        }
    }
    assert!(files.len() > 150, "{}", files.len());
    let mut long = Vec::new();
    for path in files {
        let text = fs::read_to_string(&path).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        if lines.len() > 500 {
            long.push(format!("{}: {} lines", path.display(), lines.len()));
        }
        for (at, line) in lines.iter().enumerate() {
            let indent = &line[..line.len() - line.trim_start().len()];
            let words = line.trim_start().trim_start_matches("pub ").trim_start_matches("const ");
            if !words.starts_with("fn ") && !words.starts_with("pub(") || !words.contains("fn ") {
                continue;
            }
            // As rustfmt writes it, a function ends where a brace has its indent again.
            let end = lines[at..].iter().position(|l| l.strip_prefix(indent) == Some("}"));
            let begun = lines[at..].iter().position(|l| l.ends_with([';', '{', '}'])).unwrap_or(0);
            if lines[at + begun].ends_with('{') && end.is_some_and(|end| end + 1 > 100) {
                long.push(format!("{}:{}: {}", path.display(), at + 1, line.trim()));
            }
        }
    }
    assert!(long.is_empty(), "{long:#?}");
}

/// A name given to a closure is a function that reads what stands around it; a few are
/// clear, many are a code of its own.
#[test]
fn few_closures_have_names() {
    let mut files = Vec::new();
    for entry in fs::read_dir(crates()).unwrap().flatten() {
        sources(&entry.path().join("src"), &mut files);
    }
    files.retain(|path| !path.ends_with("tests.rs"));
    let (mut named, mut lines) = (0, 0);
    for code in files.iter().map(|path| code(path)) {
        lines += code.lines().count();
        named += code.lines().filter(|line| is_named_closure(line)).count();
    }
    assert!(named * 1_000 <= 3 * lines, "{named} in {lines} lines");
}

fn is_named_closure(line: &str) -> bool {
    let value = line.trim_start().strip_prefix("let ").and_then(|rest| rest.split_once(" = "));
    value.is_some_and(|(_, value)| value.trim_start_matches("move ").starts_with('|'))
}

#[test]
fn a_closure_with_a_name_is_seen() {
    assert!(is_named_closure("    let own = |at: usize| bytes[at];"));
    assert!(is_named_closure("let mut next = move || left.pop();"));
    assert!(!is_named_closure("let both = one | other;"));
    assert!(!is_named_closure("all.map(|a| a + 1);"));
}
