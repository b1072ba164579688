//! The presets of the house as files in the state folder, so that the command line knows them by their ids while
//! no server runs. The database stays their truth: the files follow it.

use std::io;
use std::path::{Path, PathBuf};

use beryl_core::preset::Preset;
use beryl_store::Database;

/// Keeps the files up to the database.
#[derive(Debug, Clone)]
pub(crate) struct HousePresets {
    pub(crate) database: Database,
    pub(crate) folder: PathBuf,
}

impl HousePresets {
    /// Brings the files up to what the database has. A fault is told and harms nobody but the command line.
    pub(crate) async fn write(&self) {
        let presets = match self.database.own_presets().await {
            Ok(presets) => presets.into_iter().map(|own| own.preset).collect::<Vec<_>>(),
            Err(error) => return tracing::warn!(%error, "the presets of the house were not written for the command line"),
        };
        let folder = self.folder.clone();
        let written = tokio::task::spawn_blocking(move || write_all(&folder, &presets)).await;
        if let Ok(Err(error)) = written {
            tracing::warn!(%error, "the presets of the house were not written for the command line");
        }
    }

    /// Takes the file of a preset away that was removed; nothing else in the folder is touched.
    pub(crate) async fn forget(&self, id: &str) {
        let file = self.folder.join(format!("{id}.json"));
        match tokio::fs::remove_file(&file).await {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                tracing::warn!(%error, file = %file.display(), "a removed preset is still there for the command line");
            }
            _ => {}
        }
    }
}

fn write_all(folder: &Path, presets: &[Preset]) -> io::Result<()> {
    for preset in presets {
        let name = format!("{}.json", preset.id);
        let part = folder.join(format!("{name}.part"));
        std::fs::write(&part, serde_json::to_vec_pretty(preset)?)?;
        std::fs::rename(&part, folder.join(&name))?;
    }
    Ok(())
}
