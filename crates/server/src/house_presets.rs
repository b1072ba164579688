//! The presets of the house as files in the state folder, so that the command line knows them by their ids while
//! no server runs. The database stays their truth: the files follow it.

use std::collections::HashSet;
use std::io;
use std::path::Path;

use beryl_core::preset::Preset;

use crate::app::App;

/// Brings the files up to what the database has. A fault is told and harms nobody but the command line.
pub(crate) async fn write(app: &App) {
    let presets = match app.database.own_presets().await {
        Ok(presets) => presets,
        Err(error) => return tracing::warn!(%error, "the presets of the house were not written for the command line"),
    };
    let folder = app.house_presets.clone();
    let written = tokio::task::spawn_blocking(move || write_all(&folder, &presets)).await;
    if let Ok(Err(error)) = written {
        tracing::warn!(%error, "the presets of the house were not written for the command line");
    }
}

fn write_all(folder: &Path, presets: &[Preset]) -> io::Result<()> {
    let mut wanted = HashSet::new();
    for preset in presets {
        let name = format!("{}.json", preset.id);
        let part = folder.join(format!("{name}.part"));
        std::fs::write(&part, serde_json::to_vec_pretty(preset)?)?;
        std::fs::rename(&part, folder.join(&name))?;
        wanted.insert(name);
    }
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        if !wanted.contains(entry.file_name().to_string_lossy().as_ref()) {
            std::fs::remove_file(entry.path())?;
        }
    }
    Ok(())
}
