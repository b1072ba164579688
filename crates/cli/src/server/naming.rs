//! Things of a server by what people call them.

use std::path::Path;

use beryl_core::path::StoragePath;
use beryl_core::preset::Preset;
use beryl_core::problem::{Problem, ProblemKind};
use serde_json::Value;

use super::answers::{Column, PresetItem, SheetItem, SheetView, SourceRow, StorageItem, WatchItem};
use super::client::Server;

/// Something that has an id, and names.
pub(super) trait Named {
    /// What such a thing is called.
    const KIND: &'static str;
    fn id(&self) -> &str;
    fn names(&self) -> Vec<&str>;
}

macro_rules! named {
    ($type:ty, $kind:literal, $id:expr, $names:expr) => {
        impl Named for $type {
            const KIND: &'static str = $kind;
            fn id(&self) -> &str {
                let id: fn(&Self) -> &str = $id;
                id(self)
            }
            fn names(&self) -> Vec<&str> {
                let names: fn(&Self) -> Vec<&str> = $names;
                names(self)
            }
        }
    };
}

named!(SheetItem, "sheet", |item| &item.id, |item| vec![&item.name]);
named!(StorageItem, "storage", |item| &item.id, |item| vec![&item.name]);
named!(SourceRow, "source", |row| &row.id, |row| vec![&row.name]);
named!(Column, "deliverable", |column| &column.id, |column| vec![&column.preset.id, &column.preset.name]);
named!(PresetItem, "preset", |item| &item.preset.id, |item| vec![&item.preset.name]);
named!(WatchItem, "watch folder", |item| &item.id, |item| vec![&item.name]);

/// The one of these that is meant: by its id, by its name, or by how one of both begins.
pub(super) fn pick<'a, T: Named>(all: &'a [T], wanted: &str) -> Result<&'a T, Problem> {
    let is_it = |item: &&T| item.id() == wanted || item.names().contains(&wanted);
    let begins = |item: &&T| {
        !wanted.is_empty() && (item.id().starts_with(wanted) || item.names().iter().any(|name| name.starts_with(wanted)))
    };
    let exact: Vec<&T> = all.iter().filter(is_it).collect();
    let found = if exact.is_empty() { all.iter().filter(begins).collect() } else { exact };
    let list = |items: &[&T]| {
        let words: Vec<String> =
            items.iter().take(12).map(|item| format!("{} ({})", item.names().join(", "), item.id())).collect();
        words.join("; ")
    };
    let refuse = |what: String, why: String| {
        Err(Problem::new(ProblemKind::Invalid, what, why).with_next("Name one of them, or give its id."))
    };
    match found.as_slice() {
        [one] => Ok(one),
        [] if all.is_empty() => refuse(format!("there is no {} “{wanted}”", T::KIND), "there is none at all".to_owned()),
        [] => {
            refuse(format!("there is no {} “{wanted}”", T::KIND), format!("there are {}", list(&all.iter().collect::<Vec<_>>())))
        }
        several => refuse(format!("“{wanted}” is more than one {}", T::KIND), format!("it may be {}", list(several))),
    }
}

impl Server {
    /// The id of a sheet.
    pub(super) async fn sheet_id(&self, wanted: &str) -> Result<String, Problem> {
        let all: Vec<SheetItem> = self.read("/api/sheets").await?;
        Ok(pick(&all, wanted)?.id.clone())
    }

    /// A sheet with everything in it.
    pub(super) async fn sheet(&self, wanted: &str) -> Result<SheetView, Problem> {
        let id = self.sheet_id(wanted).await?;
        self.read(&format!("/api/sheets/{id}")).await
    }

    pub(super) async fn storages(&self) -> Result<Vec<StorageItem>, Problem> {
        self.read("/api/storages").await
    }

    pub(super) async fn watch_folder(&self, wanted: &str) -> Result<WatchItem, Problem> {
        let all: Vec<WatchItem> = self.read("/api/watch").await?;
        Ok(pick(&all, wanted)?.clone())
    }

    /// The document of a preset of the server, or the one in a file that ends in `.json`.
    pub(super) async fn preset(&self, wanted: &str) -> Result<Preset, Problem> {
        if Path::new(wanted).extension().is_some_and(|extension| extension == "json") {
            return crate::terminal::preset_in(Path::new(wanted));
        }
        let all: Vec<PresetItem> = self.read("/api/presets").await?;
        Ok(pick(&all, wanted)?.preset.clone())
    }

    /// A storage and a path in it: `Storage:folder/file`, or a path of this machine that lies in one.
    pub(super) async fn place(&self, wanted: &str) -> Result<(StorageItem, StoragePath), Problem> {
        let storages = self.storages().await?;
        let invalid = |why: String| Problem::new(ProblemKind::Invalid, format!("there is no place “{wanted}”"), why);
        let parsed = |path: &str| path.parse::<StoragePath>().map_err(|error| invalid(error.to_string()));
        if let Some((storage, path)) = wanted.split_once(':')
            && let Ok(storage) = pick(&storages, storage)
        {
            return Ok((storage.clone(), parsed(path.trim_matches('/'))?));
        }
        let absolute =
            std::path::absolute(wanted).map_err(|error| Problem::from_io(format!("there is no place “{wanted}”"), &error))?;
        let inside = |storage: &StorageItem| absolute.strip_prefix(&storage.root).ok().map(Path::to_path_buf);
        let deepest =
            storages.iter().filter_map(|storage| Some((storage, inside(storage)?))).max_by_key(|(storage, _)| storage.root.len());
        let Some((storage, below)) = deepest else {
            let known: Vec<String> = storages.iter().map(|storage| format!("{} ({})", storage.name, storage.root)).collect();
            let why = format!("it lies in no storage of the server; these are {}", known.join("; "));
            return Err(invalid(why).with_next("Write it as “Storage:path”, or add its folder with “beryl storage add”."));
        };
        let below = below.to_str().ok_or_else(|| invalid("its name is not UTF-8: write it as “Storage:path”".to_owned()))?;
        Ok((storage.clone(), parsed(below)?))
    }

    /// The ids of sources and deliverables of a sheet that are meant; all of a kind where none is named.
    pub(super) fn cells(sheet: &SheetView, sources: &[String], deliverables: &[String]) -> Result<Vec<Value>, Problem> {
        let sources = picked(&sheet.sources, sources)?;
        let deliverables = picked(&sheet.deliverables, deliverables)?;
        let pair = |source: &&SourceRow| {
            let source = source.id.clone();
            deliverables
                .iter()
                .map(move |column| serde_json::json!({ "source": source, "deliverable": column.id }))
                .collect::<Vec<_>>()
        };
        Ok(sources.iter().flat_map(pair).collect())
    }
}

/// Those that are named; all where none is.
pub(super) fn picked<'a, T: Named>(all: &'a [T], wanted: &[String]) -> Result<Vec<&'a T>, Problem> {
    if wanted.is_empty() {
        return Ok(all.iter().collect());
    }
    wanted.iter().map(|wanted| pick(all, wanted)).collect()
}
