//! What is asked of a running server: the same calls that the page makes.

mod answers;
pub(crate) mod assets;
mod client;
mod naming;
pub(crate) mod presets;
pub(crate) mod proofs;
pub(crate) mod queue;
pub(crate) mod settings;
pub(crate) mod sheets;
pub(crate) mod sources;
pub(crate) mod storages;
pub(crate) mod uploads;
pub(crate) mod watching;

pub(crate) use assets::AssetTask;
pub(crate) use presets::PresetTask;
pub(crate) use proofs::ProofTask;
pub(crate) use queue::QueueTask;
pub(crate) use settings::SettingsTask;
pub(crate) use sheets::SheetTask;
pub(crate) use sources::SourceTask;
pub(crate) use storages::StorageTask;
pub(crate) use uploads::UploadTask;
pub(crate) use watching::WatchTask;

pub(crate) use client::{At, Server};
