//! Which modules of a crate use which others, read from its sources. Test code does not count.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
};

use syn::visit::Visit;

/// What one file names of its own crate: absolute module paths, as far as they are written.
#[derive(Default)]
struct Named {
    module: Vec<String>,
    paths: BTreeSet<Vec<String>>,
}

impl Named {
    /// Takes a path as it is written in the module: from `crate`, `super` or `self`; any other is not of this crate, or of
    /// this module.
    fn take(&mut self, written: &[String]) {
        let mut at = match written.first().map(String::as_str) {
            Some("crate") => Vec::new(),
            Some("super" | "self") => self.module.clone(),
            _ => return,
        };
        for step in written {
            match step.as_str() {
                "crate" | "self" => {}
                "super" => {
                    at.pop();
                }
                step => at.push(step.to_owned()),
            }
        }
        self.paths.insert(at);
    }

    fn take_use(&mut self, before: &[String], tree: &syn::UseTree) {
        let with = |name: &syn::Ident| [before, &[name.to_string()]].concat();
        match tree {
            syn::UseTree::Path(path) => self.take_use(&with(&path.ident), &path.tree),
            syn::UseTree::Name(name) => self.take(&with(&name.ident)),
            syn::UseTree::Rename(name) => self.take(&with(&name.ident)),
            syn::UseTree::Glob(_) => self.take(before),
            syn::UseTree::Group(group) => group.items.iter().for_each(|tree| self.take_use(before, tree)),
        }
    }
}

fn is_test(attributes: &[syn::Attribute]) -> bool {
    let tests =
        |attribute: &syn::Attribute| attribute.parse_args::<syn::Ident>().is_ok_and(|of| of == "test");
    attributes.iter().any(|attribute| attribute.path().is_ident("cfg") && tests(attribute))
}

impl<'ast> Visit<'ast> for Named {
    fn visit_item_use(&mut self, item: &'ast syn::ItemUse) {
        if !is_test(&item.attrs) {
            self.take_use(&[], &item.tree);
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let written: Vec<String> = path.segments.iter().map(|segment| segment.ident.to_string()).collect();
        self.take(&written);
        syn::visit::visit_path(self, path);
    }

    fn visit_item_mod(&mut self, item: &'ast syn::ItemMod) {
        if is_test(&item.attrs) {
            return;
        }
        self.module.push(item.ident.to_string());
        syn::visit::visit_item_mod(self, item);
        self.module.pop();
    }
}

fn sources(folder: &Path) -> Vec<PathBuf> {
    let files = walkdir::WalkDir::new(folder).into_iter().map(|entry| entry.unwrap().into_path());
    let is_test_file = |path: &PathBuf| {
        let name = path.file_stem().unwrap().to_str().unwrap();
        // Files of tests are attached to what they test under `cfg(test)`.
        name == "tests" || name.ends_with("_tests") || name == "bombs"
    };
    files
        .filter(|path| path.extension().is_some_and(|ending| ending == "rs"))
        .filter(|path| !is_test_file(path))
        .collect()
}

/// The module that a file is, from the crate's root.
fn module_of(root: &Path, file: &Path) -> Vec<String> {
    let path = file.strip_prefix(root).unwrap().with_extension("");
    let mut module: Vec<String> =
        path.components().map(|part| part.as_os_str().to_str().unwrap().to_owned()).collect();
    module.pop_if(|last| last == "mod" || last == "lib");
    module
}

/// What each part uses of the others, with a file in which it does.
pub(crate) type Uses = BTreeMap<String, BTreeMap<String, PathBuf>>;

/// What the parts of a crate use of each other, by `name`, which says of which part a module is.
pub(crate) fn uses(crate_folder: &str, name: impl Fn(&[String]) -> Option<String>) -> Uses {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join(crate_folder).join("src");
    let mut uses = Uses::new();
    for file in sources(&root) {
        let module = module_of(&root, &file);
        let Some(part) = name(&module) else { continue };
        let mut named = Named { module, paths: BTreeSet::new() };
        named.visit_file(&syn::parse_file(&std::fs::read_to_string(&file).unwrap()).unwrap());
        let of = uses.entry(part.clone()).or_default();
        for used in named.paths.iter().filter_map(|path| name(path)).filter(|used| *used != part) {
            of.insert(used, file.clone());
        }
    }
    uses
}

/// A ring among the parts, if there is one.
pub(crate) fn ring(uses: &Uses) -> Option<Vec<String>> {
    fn walk(
        part: &str,
        uses: &Uses,
        way: &mut Vec<String>,
        done: &mut BTreeSet<String>,
    ) -> Option<Vec<String>> {
        if let Some(at) = way.iter().position(|earlier| earlier == part) {
            return Some(way[at..].to_vec());
        }
        if !done.insert(part.to_owned()) {
            return None;
        }
        way.push(part.to_owned());
        let found = uses.get(part).into_iter().flatten().find_map(|(next, _)| walk(next, uses, way, done));
        way.pop();
        found
    }
    let mut done = BTreeSet::new();
    uses.keys().find_map(|part| walk(part, uses, &mut Vec::new(), &mut done))
}
