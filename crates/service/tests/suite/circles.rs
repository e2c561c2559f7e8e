//! No files of a folder use each other in a circle, so that they can be read in an order.
//!
//! A folder's own file (`leader.rs` beside `leader/`, or `mod.rs`) may use what is in it and be used by it.

use crate::arrows::{crates_folder, sources};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use syn::visit::{self, Visit};
use syn::{ItemMod, ItemUse, UseTree};

/// The paths below `crate` that the code of a file names, without its tests.
struct Named {
    /// The module that is being read.
    module: Vec<String>,
    found: BTreeSet<Vec<String>>,
}

impl Named {
    /// Notes a path as it is written, where it begins with `crate`, `self` or `super`.
    fn note(&mut self, path: &[String]) {
        let mut rest = path;
        let mut base = match rest.first().map(String::as_str) {
            Some("crate") => Vec::new(),
            Some("self" | "super") => self.module.clone(),
            _ => return,
        };
        while let Some((first, after)) = rest.split_first() {
            match first.as_str() {
                "crate" | "self" => {}
                "super" => {
                    base.pop();
                }
                _ => break,
            }
            rest = after;
        }
        base.extend(rest.iter().cloned());
        self.found.insert(base);
    }

    fn note_tree(&mut self, before: &[String], tree: &UseTree) {
        let with = |name: &dyn ToString| {
            let mut path = before.to_vec();
            path.push(name.to_string());
            path
        };
        match tree {
            UseTree::Path(path) => self.note_tree(&with(&path.ident), &path.tree),
            UseTree::Group(group) => {
                for tree in &group.items {
                    self.note_tree(before, tree);
                }
            }
            UseTree::Name(name) => self.note(&with(&name.ident)),
            UseTree::Rename(name) => self.note(&with(&name.ident)),
            UseTree::Glob(_) => self.note(before),
        }
    }
}

impl<'a> Visit<'a> for Named {
    fn visit_item_use(&mut self, item: &'a ItemUse) {
        // What a folder's file hands on is not what it uses.
        if matches!(item.vis, syn::Visibility::Inherited) {
            self.note_tree(&[], &item.tree);
        }
    }

    fn visit_item_mod(&mut self, item: &'a ItemMod) {
        let is_test = item.attrs.iter().any(|attribute| {
            attribute.path().is_ident("cfg")
                && attribute
                    .parse_args::<syn::Ident>()
                    .is_ok_and(|word| word == "test")
        });
        if !is_test && item.content.is_some() {
            self.module.push(item.ident.to_string());
            visit::visit_item_mod(self, item);
            self.module.pop();
        }
    }

    fn visit_path(&mut self, path: &'a syn::Path) {
        let parts = path.segments.iter().map(|part| part.ident.to_string());
        self.note(&parts.collect::<Vec<_>>());
        visit::visit_path(self, path);
    }
}

/// The module that a file below `src` is.
fn module_of(file: &Path) -> Vec<String> {
    let parts = file.with_extension("");
    let mut parts: Vec<String> = parts
        .iter()
        .map(|part| part.to_string_lossy().into_owned())
        .collect();
    if matches!(
        parts.last().map(String::as_str),
        Some("mod" | "lib" | "main")
    ) {
        parts.pop();
    }
    parts
}

/// By folder: which of its files and folders use which others of it.
type Uses = BTreeMap<Vec<String>, BTreeMap<String, BTreeSet<String>>>;

fn uses_of(source: &Path) -> Uses {
    let files: Vec<_> = sources(source);
    let modules: BTreeSet<Vec<String>> = files
        .iter()
        .map(|file| module_of(file.strip_prefix(source).expect("below src")))
        .collect();
    let mut uses = Uses::new();
    for file in &files {
        let module = module_of(file.strip_prefix(source).expect("below src"));
        if module.iter().any(|part| part == "tests") {
            continue;
        }
        let text = std::fs::read_to_string(file).expect("a text");
        let mut named = Named {
            module: module.clone(),
            found: BTreeSet::new(),
        };
        named.visit_file(&syn::parse_file(&text).expect("Rust"));
        for path in named.found {
            // The longest part of the path that is a file.
            let used = (0..=path.len())
                .rev()
                .map(|length| &path[..length])
                .find(|part| modules.contains(*part));
            let Some(used) = used else { continue };
            let common = module
                .iter()
                .zip(used)
                .take_while(|(one, other)| one == other)
                .count();
            if common < module.len() && common < used.len() {
                uses.entry(module[..common].to_vec())
                    .or_default()
                    .entry(module[common].clone())
                    .or_default()
                    .insert(used[common].clone());
            }
        }
    }
    uses
}

/// What can be reached from a name, by one use or more.
fn reached<'a>(uses: &'a BTreeMap<String, BTreeSet<String>>, from: &str) -> BTreeSet<&'a str> {
    let mut found: BTreeSet<&str> = BTreeSet::new();
    let mut next: Vec<&str> = vec![from];
    while let Some(name) = next.pop() {
        for used in uses.get(name).into_iter().flatten() {
            if found.insert(used) {
                next.push(used);
            }
        }
    }
    found
}

#[test]
fn no_files_use_each_other_in_a_circle() {
    let mut circles: BTreeSet<String> = BTreeSet::new();
    let mut folders = 0;
    for entry in std::fs::read_dir(crates_folder()).expect("crates") {
        let crate_folder = entry.expect("an entry").path();
        let source = crate_folder.join("src");
        if !source.is_dir() {
            continue;
        }
        let name = crate_folder.file_name().expect("a name").to_string_lossy();
        for (folder, uses) in uses_of(&source) {
            folders += 1;
            for one in uses.keys() {
                let circle: BTreeSet<&str> = reached(&uses, one)
                    .into_iter()
                    .filter(|other| reached(&uses, other).contains(one.as_str()))
                    .collect();
                if circle.contains(one.as_str()) {
                    let arrows: Vec<String> = circle
                        .iter()
                        .flat_map(|from| uses[*from].iter().map(move |to| (from, to)))
                        .filter(|(_, to)| circle.contains(to.as_str()))
                        .map(|(from, to)| format!("{from} uses {to}"))
                        .collect();
                    let folder = folder.join("/");
                    circles.insert(format!("{name}/{folder}: {}", arrows.join(", ")));
                }
            }
        }
    }
    assert!(folders > 20, "only {folders} folders were looked at");
    assert!(
        circles.is_empty(),
        "files that use each other in a circle:\n{circles:#?}"
    );
}
