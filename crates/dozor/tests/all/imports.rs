//! Imports of the four crates go one way: no file needs one that needs it, and the rooms of the screen know only those
//! below them. `cargo test -p dozor --test all -- imports --nocapture` prints the layers.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

/// Rooms of the program, from top to bottom; each may import from those below it.
const ROOMS: [&str; 15] = [
    "cli",
    "run",
    "screen",
    "sheets",
    "panes",
    "state",
    "serve",
    "feed",
    "usual",
    "recorder",
    "recordings",
    "machine",
    "draw",
    "settings",
    "look",
];

type Modules = BTreeMap<String, String>;
type Graph = BTreeMap<String, BTreeSet<String>>;

/// Source texts by the paths of their modules, without comments and tests.
fn modules(folder: &Path, prefix: &str, found: &mut Modules) {
    for entry in std::fs::read_dir(folder).expect("a folder of sources") {
        let path = entry.expect("an entry").path();
        let name = path.file_stem().and_then(|name| name.to_str()).expect("a name").to_owned();
        let joined = if prefix.is_empty() { name.clone() } else { format!("{prefix}::{name}") };
        if path.is_dir() {
            if name != "tests" && name != "snapshots" {
                modules(&path, &joined, found);
            }
        } else if path.extension().is_some_and(|it| it == "rs") && name != "tests" && name != "main" {
            let text = std::fs::read_to_string(&path).expect("a source");
            let lines = text.lines().map(|line| line.split("//").next().unwrap_or_default());
            let before_tests = lines.take_while(|line| !line.starts_with("#[cfg(test)]"));
            let module = if name == "mod" || name == "lib" { prefix.to_owned() } else { joined };
            found.insert(module, before_tests.collect::<Vec<_>>().join("\n"));
        }
    }
}

/// Single paths of a `use`, each with the name that it has here.
fn paths(text: &str, before: &str, found: &mut Vec<(String, String)>) {
    let text = text.trim();
    if let Some(open) = text.find('{') {
        let (inner, mut depth, mut begin) = (&text[open + 1..text.rfind('}').unwrap_or(text.len())], 0, 0);
        let before = format!("{before}{}", text[..open].trim());
        for (at, letter) in inner.char_indices().chain([(inner.len(), ',')]) {
            match letter {
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    if !inner[begin..at].trim().is_empty() {
                        paths(&inner[begin..at], &before, found);
                    }
                    begin = at + 1;
                }
                _ => {}
            }
        }
        return;
    }
    let (path, name) = text.split_once(" as ").map_or((text, None), |(path, name)| (path, Some(name.trim())));
    let path = format!("{before}{}", path.trim());
    let path = path.strip_suffix("::self").unwrap_or(&path).to_owned();
    let name = name.unwrap_or(path.rsplit("::").next().unwrap_or_default()).to_owned();
    found.push((path, name));
}

/// A path from the root of the crate on; none where it leads to another crate.
fn absolute(module: &str, path: &str, modules: &Modules) -> Option<Vec<String>> {
    let mut parts: Vec<&str> = path.split("::").collect();
    let mut base: Vec<&str> = module.split("::").filter(|part| !part.is_empty()).collect();
    match parts[0] {
        "crate" => base.clear(),
        "super" | "self" => {
            while parts.first() == Some(&"super") {
                base.pop();
                parts.remove(0);
            }
            if parts.first() == Some(&"self") {
                parts.remove(0);
            }
            base.extend(parts);
            return Some(base.into_iter().map(str::to_owned).collect());
        }
        first => {
            let child = base.iter().copied().chain([first]).collect::<Vec<_>>().join("::");
            if !modules.contains_key(&child) {
                return None;
            }
            base.extend(parts);
            return Some(base.into_iter().map(str::to_owned).collect());
        }
    }
    Some(parts[1..].iter().map(|part| (*part).to_owned()).collect())
}

/// Paths that code names without importing them.
fn named_in(text: &str) -> Vec<String> {
    let is_part = |letter: char| letter.is_alphanumeric() || letter == '_' || letter == ':';
    let words = text.split(|letter| !is_part(letter));
    words.filter(|word| word.contains("::")).map(|word| word.trim_end_matches(':').to_owned()).collect()
}

/// Which file imports from which, through what others give on.
fn graph(modules: &Modules) -> Graph {
    let mut given: HashMap<&str, HashMap<String, Vec<String>>> = HashMap::new();
    let mut wanted: Vec<(&String, Vec<String>)> = vec![];
    for (module, text) in modules {
        let (mut rest, mut lines) = (String::new(), text.lines());
        while let Some(line) = lines.next() {
            let begins =
                ["use ", "pub use ", "pub(crate) use "].iter().find(|begin| line.trim().starts_with(*begin));
            let Some(begin) = begins else {
                rest.push_str(line);
                rest.push('\n');
                continue;
            };
            let mut body = line.trim()[begin.len()..].to_owned();
            while !body.ends_with(';') {
                body.push_str(lines.next().expect("the end of an import").trim());
            }
            let mut found = vec![];
            paths(body.trim_end_matches(';'), "", &mut found);
            for (path, name) in found {
                let Some(path) = absolute(module, &path, modules) else { continue };
                if *begin == "use " {
                    wanted.push((module, path));
                } else {
                    given.entry(module).or_default().insert(name, path);
                }
            }
        }
        for path in named_in(&rest) {
            wanted.extend(absolute(module, &path, modules).map(|path| (module, path)));
        }
    }
    let mut graph = Graph::new();
    for (module, path) in wanted {
        if let Some(target) = resolve(&path, modules, &given, 0).filter(|target| target != module) {
            graph.entry(module.clone()).or_default().insert(target);
        }
    }
    graph
}

/// The file in which something stands.
fn resolve(
    path: &[String],
    modules: &Modules,
    given: &HashMap<&str, HashMap<String, Vec<String>>>,
    depth: usize,
) -> Option<String> {
    let (length, module) = (0..=path.len())
        .rev()
        .map(|length| (length, path[..length].join("::")))
        .find(|(_, module)| modules.contains_key(module))?;
    let on = path.get(length).and_then(|name| given.get(&*module)?.get(name)).filter(|_| depth < 9);
    match on {
        Some(on) => resolve(&[on, &path[length + 1..]].concat(), modules, given, depth + 1),
        None => Some(module),
    }
}

/// Files by layer: those of one need only such as are in lower ones. What is left goes round.
fn layers(modules: &Modules, graph: &Graph) -> (Vec<Vec<String>>, BTreeSet<String>) {
    let mut left: BTreeSet<String> = modules.keys().cloned().collect();
    let mut layers = vec![];
    loop {
        let free = |module: &&String| graph.get(*module).is_none_or(|needs| needs.is_disjoint(&left));
        let layer: Vec<String> = left.iter().filter(free).cloned().collect();
        if layer.is_empty() {
            return (layers, left);
        }
        left.retain(|module| !layer.contains(module));
        layers.push(layer);
    }
}

#[test]
fn imports_go_one_way() {
    for name in ["core", "linux", "export", "dozor"] {
        let mut found = Modules::new();
        modules(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src"), "", &mut found);
        let graph = graph(&found);
        let imports: usize = graph.values().map(BTreeSet::len).sum();
        assert!(found.len() > 25 && imports > 50, "{name}: {} files, {imports} imports", found.len());
        let (layers, round) = layers(&found, &graph);
        println!("{name}: {} files in {} layers, {imports} imports", found.len(), layers.len());
        for (number, layer) in layers.iter().enumerate() {
            println!("  {number:>2}  {}", layer.join("  "));
        }
        let told: Vec<String> = round
            .iter()
            .map(|module| {
                let needs: Vec<&String> = graph[module].intersection(&round).collect();
                format!("{module} needs {needs:?}")
            })
            .collect();
        assert!(round.is_empty(), "{name}: imports go round:\n{}", told.join("\n"));
    }
}

#[test]
fn rooms_know_only_those_below_them() {
    let mut found = Modules::new();
    modules(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), "", &mut found);
    let room = |module: &str| {
        let name = module.split("::").next().unwrap_or_default().to_owned();
        let place = ROOMS.iter().position(|room| *room == name);
        place.unwrap_or_else(|| panic!("'{name}' is no room; give it a place among {ROOMS:?}"))
    };
    for (module, needs) in graph(&found).iter().filter(|(module, _)| !module.is_empty()) {
        for needed in needs {
            assert!(room(module) <= room(needed), "{module} imports {needed}, which stands above it");
        }
    }
}

#[test]
fn a_circle_is_found_through_what_others_give_on() {
    let made_up = [
        ("a", "pub use inner::Thing;\nuse crate::b::{self, Other};"),
        ("a::inner", "pub struct Thing;"),
        ("b", "use crate::{a::Thing, c};"),
        ("c", "fn of() {\n    crate::a::done()\n}"),
        ("d", "use super::a::Thing;"),
    ];
    let found: Modules = made_up.map(|(name, text)| (name.to_owned(), text.to_owned())).into();
    let graph = graph(&found);
    let needs = |module: &str| graph[module].iter().map(String::as_str).collect::<Vec<_>>();
    assert_eq!((needs("b"), needs("d")), (vec!["a::inner", "c"], vec!["a::inner"]));
    let (layers, round) = layers(&found, &graph);
    assert_eq!(layers, [vec!["a::inner"], vec!["d"]]);
    assert_eq!(round.into_iter().collect::<Vec<_>>(), ["a", "b", "c"]);
}
