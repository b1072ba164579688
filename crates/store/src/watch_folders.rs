//! Watch folders, and what is remembered of the files in them.

use std::collections::HashMap;

use std::collections::HashSet;

use beryl_core::flow::placing::Made;
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::flow::watch::{Stamp, WatchState};
use beryl_core::path::StoragePath;
use beryl_core::preset::Preset;
use beryl_core::units::ByteSize;
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use uuid::Uuid;

use crate::runs::{NewRun, insert_runs};
use crate::sheets::{clash_rule, clash_word};
use crate::storages::stored_path;
use crate::{Database, ROWS_AT_ONCE, StoreError, json};

/// A watch folder.
#[derive(Debug, Clone, PartialEq)]
pub struct WatchFolder {
    /// Its id.
    pub id: Uuid,
    /// What people call it.
    pub name: String,
    /// The storage that is watched.
    pub storage: Uuid,
    /// The folder there, with all folders in it.
    pub folder: StoragePath,
    /// What arriving files become, as the presets were when they were chosen.
    pub presets: Vec<Preset>,
    /// The storage that outputs go to.
    pub destination_storage: Uuid,
    /// The folder there.
    pub destination: StoragePath,
    /// What happens when a name is taken.
    pub clash: ClashRule,
    /// Seconds that a file must not change before it is taken up.
    pub settle_seconds: u32,
    /// Whether it is watched now.
    pub is_on: bool,
}

/// A file in a watch folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatchFile {
    /// Where it lies in the storage.
    pub path: StoragePath,
    /// Where it is on its way.
    pub state: WatchState,
    /// Its size and time.
    pub stamp: Stamp,
    /// How often its headers were found incomplete.
    pub tries: u32,
    /// More on its state, for people.
    pub detail: Option<String>,
    /// Which outputs cannot be made of it, for people.
    pub left_out: Option<String>,
    /// Seconds since size and time changed last, by the database's clock.
    pub still_seconds: u64,
}

/// The runs of a file that was taken up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenFile {
    /// The file.
    pub path: StoragePath,
    /// Where it is now.
    pub state: WatchState,
    /// The states of its runs.
    pub runs: Vec<RunState>,
    /// Why one of them failed.
    pub problem: Option<String>,
}

fn watch_folder(row: &MySqlRow) -> Result<WatchFolder, sqlx::Error> {
    Ok(WatchFolder {
        id: row.try_get("id")?,
        name: row.try_get("name")?,
        storage: row.try_get("storage_id")?,
        folder: stored_path(row, "folder")?,
        presets: json::value(row.try_get("presets")?)?,
        destination_storage: row.try_get("destination_storage_id")?,
        destination: stored_path(row, "destination")?,
        clash: clash_rule(row.try_get("clash")?)?,
        settle_seconds: row.try_get("settle_seconds")?,
        is_on: row.try_get("is_on")?,
    })
}

fn watch_state(row: &MySqlRow) -> Result<WatchState, sqlx::Error> {
    let word: String = row.try_get("state")?;
    WatchState::from_word(&word).ok_or_else(|| sqlx::Error::Decode(format!("unknown state {word}").into()))
}

fn watch_file(row: &MySqlRow) -> Result<WatchFile, sqlx::Error> {
    let still: i64 = row.try_get("still")?;
    Ok(WatchFile {
        path: stored_path(row, "path")?,
        state: watch_state(row)?,
        stamp: Stamp { size: ByteSize(row.try_get("size")?), modified: row.try_get("modified")? },
        tries: row.try_get("tries")?,
        detail: row.try_get("detail")?,
        left_out: row.try_get("left_out")?,
        still_seconds: u64::try_from(still).unwrap_or(0),
    })
}

const FILE: &str =
    "path, state, size, modified, tries, detail, left_out, TIMESTAMPDIFF(SECOND, unchanged_since, NOW(6)) AS still";

/// Files that one statement asks about.
const FILES_AT_ONCE: usize = 500;

impl Database {
    /// All watch folders by name.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn watch_folders(&self) -> Result<Vec<WatchFolder>, StoreError> {
        let rows = sqlx::query("SELECT * FROM watch_folders WHERE NOT removed ORDER BY name, id").fetch_all(&self.pool).await?;
        Ok(rows.iter().map(watch_folder).collect::<Result<_, _>>()?)
    }

    /// One watch folder.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn watch_folder(&self, id: Uuid) -> Result<WatchFolder, StoreError> {
        let row =
            sqlx::query("SELECT * FROM watch_folders WHERE id = ? AND NOT removed").bind(id).fetch_optional(&self.pool).await?;
        Ok(watch_folder(&row.ok_or(StoreError::NotFound("watch folder"))?)?)
    }

    /// Adds a watch folder, or changes the one with this id; whether it is on stays as it is.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_watch_folder(&self, folder: &WatchFolder) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO watch_folders (id, name, storage_id, folder, presets, destination_storage_id, destination, clash, settle_seconds) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE name = VALUES(name), storage_id = VALUES(storage_id), \
             folder = VALUES(folder), presets = VALUES(presets), destination_storage_id = VALUES(destination_storage_id), \
             destination = VALUES(destination), clash = VALUES(clash), settle_seconds = VALUES(settle_seconds)",
        )
        .bind(folder.id)
        .bind(&folder.name)
        .bind(folder.storage)
        .bind(folder.folder.to_string())
        .bind(json::text(&folder.presets)?)
        .bind(folder.destination_storage)
        .bind(folder.destination.to_string())
        .bind(clash_word(folder.clash))
        .bind(folder.settle_seconds)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Switches a watch folder on or off. Off, files that were not taken up yet are forgotten, so
    /// that switching on asks for them again.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn switch_watch_folder(&self, id: Uuid, on: bool) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let changed =
            sqlx::query("UPDATE watch_folders SET is_on = ? WHERE id = ?").bind(on).bind(id).execute(&mut *work).await?;
        if changed.rows_affected() == 0 {
            return Err(StoreError::NotFound("watch folder"));
        }
        if !on {
            sqlx::query("DELETE FROM watch_files WHERE watch_folder_id = ? AND state IN ('arriving', 'settling', 'gone')")
                .bind(id)
                .execute(&mut *work)
                .await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Puts a watch folder away, switched off, or brings it back; what is known of its files stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn set_watch_folder_removed(&self, id: Uuid, removed: bool) -> Result<(), StoreError> {
        let changed = sqlx::query("UPDATE watch_folders SET removed = ?, is_on = FALSE WHERE id = ? AND removed <> ?")
            .bind(removed)
            .bind(id)
            .bind(removed)
            .execute(&self.pool)
            .await?;
        if changed.rows_affected() == 0 { Err(StoreError::NotFound("watch folder")) } else { Ok(()) }
    }

    /// Everything that is remembered of the files in a watch folder.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn watch_files(&self, folder: Uuid) -> Result<Vec<WatchFile>, StoreError> {
        let statement = format!("SELECT {FILE} FROM watch_files WHERE watch_folder_id = ?");
        let rows = sqlx::query(AssertSqlSafe(statement)).bind(folder).fetch_all(&self.pool).await?;
        Ok(rows.iter().map(watch_file).collect::<Result<_, _>>()?)
    }

    /// The files of a watch folder in one state, those that came into it last first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn newest_watch_files(&self, folder: Uuid, state: WatchState, most: u32) -> Result<Vec<WatchFile>, StoreError> {
        let statement =
            format!("SELECT {FILE} FROM watch_files WHERE watch_folder_id = ? AND state = ? ORDER BY entered DESC LIMIT ?");
        let query = sqlx::query(AssertSqlSafe(statement)).bind(folder).bind(state.word()).bind(most);
        let rows = query.fetch_all(&self.pool).await?;
        Ok(rows.iter().map(watch_file).collect::<Result<_, _>>()?)
    }

    /// The files of watch folders that came to states last, the newest first: at most so many for each, in one question.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn newest_of_each(
        &self,
        wanted: &[(Uuid, WatchState)],
        most: u32,
    ) -> Result<HashMap<(Uuid, WatchState), Vec<WatchFile>>, StoreError> {
        let mut newest: HashMap<(Uuid, WatchState), Vec<WatchFile>> = HashMap::new();
        for some in wanted.chunks(ROWS_AT_ONCE) {
            let mut query = sqlx::QueryBuilder::new("");
            for (place, (folder, state)) in some.iter().enumerate() {
                query.push(if place == 0 { "(" } else { " UNION ALL (" });
                query.push(format!("SELECT watch_folder_id, {FILE} FROM watch_files WHERE watch_folder_id = ")).push_bind(folder);
                query
                    .push(" AND state = ")
                    .push_bind(state.word())
                    .push(" ORDER BY entered DESC LIMIT ")
                    .push_bind(most)
                    .push(")");
            }
            for row in query.build().fetch_all(&self.pool).await? {
                newest.entry((row.try_get("watch_folder_id")?, watch_state(&row)?)).or_default().push(watch_file(&row)?);
            }
        }
        Ok(newest)
    }

    /// How many files of each watch folder are in each state.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn watch_counts(&self) -> Result<HashMap<(Uuid, WatchState), i64>, StoreError> {
        let rows =
            sqlx::query("SELECT watch_folder_id, state, COUNT(*) AS files FROM watch_files GROUP BY watch_folder_id, state")
                .fetch_all(&self.pool)
                .await?;
        let count =
            |row: &MySqlRow| Ok::<_, sqlx::Error>(((row.try_get("watch_folder_id")?, watch_state(row)?), row.try_get("files")?));
        Ok(rows.iter().map(count).collect::<Result<_, _>>()?)
    }

    /// Keeps the states of files.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_watch_files(&self, folder: Uuid, files: &[WatchFile]) -> Result<(), StoreError> {
        for some in files.chunks(ROWS_AT_ONCE) {
            let marks = vec!["(?, ?, ?, ?, ?, ?, ?, ?)"; some.len()].join(", ");
            // Assignments happen from left to right: what compares with the old values comes first.
            let statement = format!(
                "INSERT INTO watch_files (watch_folder_id, path, state, size, modified, tries, detail, left_out) VALUES {marks} ON DUPLICATE KEY UPDATE \
                 unchanged_since = IF(size = VALUES(size) AND modified = VALUES(modified), unchanged_since, NOW(6)), \
                 entered = IF(state = VALUES(state), entered, NOW(6)), state = VALUES(state), size = VALUES(size), \
                 modified = VALUES(modified), tries = VALUES(tries), detail = VALUES(detail), left_out = VALUES(left_out)"
            );
            let mut query = sqlx::query(AssertSqlSafe(statement));
            for file in some {
                query = query
                    .bind(folder)
                    .bind(file.path.to_string())
                    .bind(file.state.word())
                    .bind(file.stamp.size.0)
                    .bind(file.stamp.modified)
                    .bind(file.tries)
                    .bind(&file.detail)
                    .bind(&file.left_out);
            }
            query.execute(&self.pool).await?;
        }
        Ok(())
    }

    /// A settled file becomes a source with these runs, all or nothing, so that nothing that
    /// happens afterwards makes its outputs twice.
    ///
    /// # Errors
    /// [`StoreError::Changed`] where the file is not (or no longer) one that may be taken up.
    pub async fn take_up_watch_file(
        &self,
        folder: Uuid,
        path: &StoragePath,
        source: Uuid,
        runs: &[NewRun],
    ) -> Result<Vec<Uuid>, StoreError> {
        let mut work = self.pool.begin().await?;
        let taken = sqlx::query(
            "UPDATE watch_files SET state = 'working', detail = NULL, source_id = ?, taken = NOW(6), entered = NOW(6) \
             WHERE watch_folder_id = ? AND path_key = UNHEX(SHA2(?, 256)) AND state IN ('arriving', 'settling')",
        )
        .bind(source)
        .bind(folder)
        .bind(path.to_string())
        .execute(&mut *work)
        .await?;
        if taken.rows_affected() == 0 {
            return Err(StoreError::Changed);
        }
        let ids = insert_runs(&mut work, runs).await?;
        work.commit().await?;
        Ok(ids)
    }

    /// Files that were taken up and are not out, with the states of their runs.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn taken_watch_files(&self, folder: Uuid) -> Result<Vec<TakenFile>, StoreError> {
        let rows = sqlx::query(
            "SELECT watch_files.path, watch_files.state, GROUP_CONCAT(runs.state) AS runs, \
             MIN(IF(runs.state = 'failed', JSON_VALUE(runs.problem, '$.why'), NULL)) AS problem \
             FROM watch_files JOIN runs ON runs.watch_folder_id = watch_files.watch_folder_id AND runs.source_id = watch_files.source_id \
             AND runs.created >= watch_files.taken WHERE watch_files.watch_folder_id = ? AND watch_files.state IN ('working', 'failed') \
             AND watch_files.taken IS NOT NULL GROUP BY watch_files.path, watch_files.state",
        )
        .bind(folder)
        .fetch_all(&self.pool)
        .await?;
        let taken = |row: &MySqlRow| {
            let states: String = row.try_get("runs")?;
            Ok::<_, sqlx::Error>(TakenFile {
                path: stored_path(row, "path")?,
                state: watch_state(row)?,
                runs: states.split(',').filter_map(RunState::from_word).collect(),
                problem: row.try_get("problem")?,
            })
        };
        Ok(rows.iter().map(taken).collect::<Result<_, _>>()?)
    }

    /// Whether this very file was made by a run, wherever it lies now.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn is_made(&self, made: Made) -> Result<bool, StoreError> {
        let found: Option<i64> =
            sqlx::query_scalar("SELECT 1 FROM run_files WHERE made_file = ? AND made_modified = ? AND size = ? LIMIT 1")
                .bind(made.number)
                .bind(made.modified)
                .bind(made.size)
                .fetch_optional(&self.pool)
                .await?;
        Ok(found.is_some())
    }

    /// Which of these files of a storage were made by runs.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn made_among(&self, storage: Uuid, paths: &[StoragePath]) -> Result<HashSet<StoragePath>, StoreError> {
        let mut made = HashSet::new();
        for some in paths.chunks(FILES_AT_ONCE) {
            let mut query = sqlx::QueryBuilder::new(
                "SELECT DISTINCT run_files.target FROM run_files JOIN runs ON runs.id = run_files.run_id WHERE runs.storage_id = ",
            );
            query.push_bind(storage).push(" AND runs.state = 'done' AND run_files.target_key IN (");
            let mut keys = query.separated(", ");
            for path in some {
                keys.push("UNHEX(SHA2(").push_bind_unseparated(path.to_string()).push_unseparated(", 256))");
            }
            query.push(")");
            let found: Vec<String> = query.build_query_scalar().fetch_all(&self.pool).await?;
            made.extend(found.iter().filter_map(|path| path.parse::<StoragePath>().ok()));
        }
        Ok(made)
    }

    /// Whether a file was made (or is about to be named) by a run.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn is_own_output(&self, storage: Uuid, path: &StoragePath) -> Result<bool, StoreError> {
        let found: Option<i64> = sqlx::query_scalar(
            "SELECT 1 FROM run_files JOIN runs ON runs.id = run_files.run_id \
                 WHERE runs.storage_id = ? AND run_files.target_key = UNHEX(SHA2(?, 256)) LIMIT 1",
        )
        .bind(storage)
        .bind(path.to_string())
        .fetch_optional(&self.pool)
        .await?;
        Ok(found.is_some())
    }
}
