//! The figures of docs/house.md: how the code is cut into crates, files and functions, and which
//! files import each other in circles.
//!
//! `cargo run -p karst-lab --example house` prints the table, `-- --circles` names the files of
//! each circle.

use proc_macro2::LineColumn;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use syn::spanned::Spanned;
use syn::visit::{self, Visit};

const CRATES: [&str; 8] = [
    "core", "sim", "api", "history", "adapters", "daemon", "cli", "lab",
];
const LONG_LINE: usize = 100;
const LONG_FUNCTION: usize = 60;
const LONG_FILE: usize = 400;

/// What one file's code holds, tests apart.
#[derive(Default)]
struct Found {
    functions: Vec<usize>,
    closures: usize,
    tuples: usize,
    public: usize,
    without_docs: usize,
    test_lines: usize,
    /// Paths that begin at the crate's root, at the module above or at the own one, as they stand
    /// in the code.
    paths: BTreeSet<Vec<String>>,
}

#[derive(Default)]
struct House {
    files: usize,
    long_files: usize,
    lines: usize,
    code_lines: usize,
    long_lines: usize,
    found: Found,
    circles: Vec<Vec<String>>,
}

fn main() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let circles_too = std::env::args().any(|word| word == "--circles");
    println!(
        "| crate | files | over {LONG_FILE} | lines | tests | function median / 90 % / longest | over {LONG_FUNCTION} | \
         public without docs | closures a 100 lines | lines over {LONG_LINE} | tuples a 1,000 lines | files in circles |"
    );
    println!("|---|---|---|---|---|---|---|---|---|---|---|---|");
    for name in CRATES {
        let house = look_at(&root.join("crates").join(name));
        println!("{}", row(name, &house));
        if circles_too {
            for circle in &house.circles {
                println!("  {}", circle.join(", "));
            }
        }
    }
}

fn row(name: &str, house: &House) -> String {
    let mut functions = house.found.functions.clone();
    functions.sort_unstable();
    let at = |share: f64| {
        functions
            .get((functions.len() as f64 * share) as usize)
            .copied()
            .unwrap_or_default()
    };
    let share = |part: usize, of: usize| 100.0 * part as f64 / of.max(1) as f64;
    let code = house.code_lines - house.found.test_lines;
    format!(
        "| {name} | {} | {} | {} | {:.0} % | {} / {} / {} | {} | {:.0} % | {:.1} | {:.1} % | {:.0} | {} |",
        house.files,
        house.long_files,
        house.lines,
        share(house.lines - code, house.lines),
        at(0.5),
        at(0.9),
        functions.last().copied().unwrap_or_default(),
        functions
            .iter()
            .filter(|length| **length > LONG_FUNCTION)
            .count(),
        share(house.found.without_docs, house.found.public),
        share(house.found.closures, code),
        share(house.long_lines, house.lines),
        10.0 * share(house.found.tuples, code),
        house.circles.iter().map(Vec::len).sum::<usize>(),
    )
}

fn look_at(dir: &Path) -> House {
    let mut files = Vec::new();
    rust_files(dir, &mut files);
    let mut house = House::default();
    let mut modules = BTreeMap::new();
    for file in files {
        let text = std::fs::read_to_string(&file).expect("a file that was just listed");
        let lines = text.lines().count();
        house.files += 1;
        house.long_files += usize::from(lines > LONG_FILE);
        house.lines += lines;
        house.long_lines += text
            .lines()
            .filter(|line| line.chars().count() > LONG_LINE)
            .count();
        let Ok(inside) = file.strip_prefix(dir.join("src")) else {
            continue;
        };
        house.code_lines += lines;
        let parsed =
            syn::parse_file(&text).unwrap_or_else(|error| panic!("{}: {error}", file.display()));
        let mut found = Found::default();
        found.visit_file(&parsed);
        modules.insert(module_of(inside), std::mem::take(&mut found.paths));
        add(&mut house.found, found);
    }
    house.circles = circles(&modules);
    house
}

fn add(sum: &mut Found, one: Found) {
    sum.functions.extend(one.functions);
    sum.closures += one.closures;
    sum.tuples += one.tuples;
    sum.public += one.public;
    sum.without_docs += one.without_docs;
    sum.test_lines += one.test_lines;
}

fn rust_files(dir: &Path, found: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> = std::fs::read_dir(dir)
        .expect("a crate")
        .flatten()
        .map(|e| e.path())
        .collect();
    entries.sort();
    for path in entries {
        if path.is_dir() {
            rust_files(&path, found);
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
}

/// `node/mod.rs` is `node`, `lib.rs` and `main.rs` are the root.
fn module_of(file: &Path) -> Vec<String> {
    let mut names: Vec<String> = file
        .with_extension("")
        .iter()
        .map(|n| n.to_string_lossy().into_owned())
        .collect();
    if names
        .last()
        .is_some_and(|last| ["mod", "lib", "main"].contains(&last.as_str()))
    {
        names.pop();
    }
    names
}

/// The files that reach each other, each set once. A path leads to the longest module that it
/// names.
fn circles(modules: &BTreeMap<Vec<String>, BTreeSet<Vec<String>>>) -> Vec<Vec<String>> {
    let mut reaches: BTreeMap<&Vec<String>, BTreeSet<&Vec<String>>> = BTreeMap::new();
    for (module, paths) in modules {
        let direct = paths
            .iter()
            .filter_map(|path| target(module, path, modules))
            .filter(|to| *to != module);
        reaches.insert(module, direct.collect());
    }
    loop {
        let before: usize = reaches.values().map(BTreeSet::len).sum();
        for module in modules.keys() {
            let further: Vec<_> = reaches[module]
                .iter()
                .flat_map(|to| reaches[*to].clone())
                .collect();
            reaches
                .get_mut(module)
                .expect("it was just looked up")
                .extend(further);
        }
        if reaches.values().map(BTreeSet::len).sum::<usize>() == before {
            break;
        }
    }
    let mut found = BTreeSet::new();
    for module in modules.keys() {
        let circle: Vec<String> = modules
            .keys()
            .filter(|other| reaches[module].contains(other) && reaches[*other].contains(module))
            .map(|other| {
                if other.is_empty() {
                    "(root)".into()
                } else {
                    other.join("::")
                }
            })
            .collect();
        if circle.len() > 1 {
            found.insert(circle);
        }
    }
    found.into_iter().collect()
}

fn target<'a>(
    from: &[String],
    path: &[String],
    modules: &'a BTreeMap<Vec<String>, BTreeSet<Vec<String>>>,
) -> Option<&'a Vec<String>> {
    let (mut at, mut rest) = match path.first()?.as_str() {
        "crate" => (Vec::new(), &path[1..]),
        "self" => (from.to_vec(), &path[1..]),
        _ => (from.to_vec(), path),
    };
    while rest.first().is_some_and(|name| name == "super") {
        at.pop();
        rest = &rest[1..];
    }
    let longest = (0..=rest.len())
        .rev()
        .map(|n| [&at[..], &rest[..n]].concat());
    longest
        .filter_map(|path| modules.get_key_value(&path))
        .map(|(module, _)| module)
        .next()
}

fn lines_of(start: LineColumn, end: LineColumn) -> usize {
    end.line - start.line + 1
}

fn is_test(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|a| match &a.meta {
        syn::Meta::List(list) => list.path.is_ident("cfg") && list.tokens.to_string() == "test",
        meta => meta.path().is_ident("test"),
    })
}

impl Found {
    fn note(&mut self, visibility: &syn::Visibility, attributes: &[syn::Attribute]) {
        if matches!(visibility, syn::Visibility::Public(_)) {
            self.public += 1;
            self.without_docs += usize::from(!attributes.iter().any(|a| a.path().is_ident("doc")));
        }
    }

    fn note_tree(&mut self, before: &[String], tree: &syn::UseTree) {
        match tree {
            syn::UseTree::Path(path) => {
                let longer = [before, &[path.ident.to_string()]].concat();
                self.note_tree(&longer, &path.tree);
            }
            syn::UseTree::Name(name) => {
                self.note_path([before, &[name.ident.to_string()]].concat())
            }
            syn::UseTree::Rename(name) => {
                self.note_path([before, &[name.ident.to_string()]].concat())
            }
            syn::UseTree::Glob(_) => self.note_path(before.to_vec()),
            syn::UseTree::Group(group) => group
                .items
                .iter()
                .for_each(|tree| self.note_tree(before, tree)),
        }
    }

    fn note_path(&mut self, path: Vec<String>) {
        if path.len() > 1 {
            self.paths.insert(path);
        }
    }
}

impl<'a> Visit<'a> for Found {
    fn visit_item_mod(&mut self, item: &'a syn::ItemMod) {
        if is_test(&item.attrs) {
            self.test_lines += lines_of(item.span().start(), item.span().end());
        } else {
            visit::visit_item_mod(self, item);
        }
    }

    fn visit_item_fn(&mut self, item: &'a syn::ItemFn) {
        self.functions
            .push(lines_of(item.span().start(), item.span().end()));
        self.note(&item.vis, &item.attrs);
        visit::visit_item_fn(self, item);
    }

    fn visit_impl_item_fn(&mut self, item: &'a syn::ImplItemFn) {
        self.functions
            .push(lines_of(item.span().start(), item.span().end()));
        self.note(&item.vis, &item.attrs);
        visit::visit_impl_item_fn(self, item);
    }

    fn visit_item_struct(&mut self, item: &'a syn::ItemStruct) {
        self.note(&item.vis, &item.attrs);
        visit::visit_item_struct(self, item);
    }

    fn visit_item_enum(&mut self, item: &'a syn::ItemEnum) {
        self.note(&item.vis, &item.attrs);
        visit::visit_item_enum(self, item);
    }

    fn visit_item_const(&mut self, item: &'a syn::ItemConst) {
        self.note(&item.vis, &item.attrs);
        visit::visit_item_const(self, item);
    }

    fn visit_expr_closure(&mut self, closure: &'a syn::ExprClosure) {
        self.closures += 1;
        visit::visit_expr_closure(self, closure);
    }

    fn visit_expr_tuple(&mut self, tuple: &'a syn::ExprTuple) {
        self.tuples += usize::from(!tuple.elems.is_empty());
        visit::visit_expr_tuple(self, tuple);
    }

    fn visit_item_use(&mut self, item: &'a syn::ItemUse) {
        self.note_tree(&[], &item.tree);
    }

    fn visit_path(&mut self, path: &'a syn::Path) {
        self.note_path(path.segments.iter().map(|s| s.ident.to_string()).collect());
        visit::visit_path(self, path);
    }
}
