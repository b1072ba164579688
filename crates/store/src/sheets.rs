//! Sheets: their rows, their columns, and what is set for single cells.

use std::collections::{HashMap, HashSet};

use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::naming::in_tokens;
use beryl_core::patch::Patch;
use beryl_core::path::StoragePath;
use beryl_core::preset::{Preset, PresetPatch};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use uuid::Uuid;

use crate::sources::{COLUMNS, Source};
use crate::storages::stored_path;
use crate::{Database, ROWS_AT_ONCE, StoreError, json};

/// A sheet's head.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sheet {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
}

/// A sheet in the list of all.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetSummary {
    /// The sheet.
    pub sheet: Sheet,
    /// How many sources.
    pub sources: i64,
    /// How many deliverables.
    pub deliverables: i64,
    /// How many of its cells have a finished file.
    pub done: i64,
    /// How many cells are in other states that a person would want to know of, by state.
    pub states: HashMap<RunState, i64>,
    /// When it was made.
    pub created: chrono::DateTime<chrono::Utc>,
}

/// A row.
#[derive(Debug, Clone, PartialEq)]
pub struct SheetSource {
    /// The source.
    pub source: Source,
    /// The folders between the one that was chosen and the source, which may be empty.
    pub folder: String,
    /// The editor's own settings for all outputs of the source, a merge patch on the preset.
    pub overrides: Option<PresetPatch>,
}

/// A column.
#[derive(Debug, Clone, PartialEq)]
pub struct Deliverable {
    /// Its id.
    pub id: Uuid,
    /// The sheet it belongs to.
    pub sheet: Uuid,
    /// The preset as it was when the column was made or last changed.
    pub preset: Preset,
    /// Where outputs go; nothing for the source's own storage and folder.
    pub storage: Option<Uuid>,
    /// The folder there.
    pub folder: StoragePath,
    /// How outputs are named.
    pub name_pattern: String,
    /// What happens when a name is taken.
    pub clash: ClashRule,
}

/// What is set for one cell, where something is.
#[derive(Debug, Clone, PartialEq)]
pub struct OutputSetting {
    /// The row.
    pub source: Uuid,
    /// The column.
    pub deliverable: Uuid,
    /// Whether it is wanted.
    pub enabled: bool,
    /// The editor's own settings, a merge patch on the preset.
    pub overrides: Option<PresetPatch>,
}

pub(crate) fn clash_word(rule: ClashRule) -> &'static str {
    match rule {
        ClashRule::Number => "number",
        ClashRule::Skip => "skip",
        ClashRule::Replace => "replace",
    }
}

pub(crate) fn clash_rule(word: &str) -> Result<ClashRule, sqlx::Error> {
    json::value(&format!("\"{word}\""))
}

fn deliverable(row: &MySqlRow) -> Result<Deliverable, sqlx::Error> {
    Ok(Deliverable {
        id: row.try_get("id")?,
        sheet: row.try_get("sheet_id")?,
        preset: json::value(row.try_get("preset")?)?,
        storage: row.try_get("storage_id")?,
        folder: stored_path(row, "folder")?,
        name_pattern: in_tokens(row.try_get("name_pattern")?),
        clash: clash_rule(row.try_get("clash")?)?,
    })
}

fn sheet_source(row: &MySqlRow, source: Source) -> Result<SheetSource, sqlx::Error> {
    Ok(SheetSource { source, folder: row.try_get("folder")?, overrides: json::patch(row.try_get("overrides")?)? })
}

fn setting(row: &MySqlRow) -> Result<OutputSetting, sqlx::Error> {
    Ok(OutputSetting {
        source: row.try_get("source_id")?,
        deliverable: row.try_get("deliverable_id")?,
        enabled: row.try_get("enabled")?,
        overrides: json::patch(row.try_get("overrides")?)?,
    })
}

impl Database {
    /// All sheets, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn sheets(&self) -> Result<Vec<SheetSummary>, StoreError> {
        let heads = sqlx::query(
            "SELECT sheets.id, sheets.name, sheets.created, \
             (SELECT COUNT(*) FROM sheet_sources WHERE sheet_id = sheets.id AND NOT removed) AS sources, \
             (SELECT COUNT(*) FROM deliverables WHERE sheet_id = sheets.id AND NOT removed) AS deliverables \
             FROM sheets WHERE NOT removed ORDER BY created DESC",
        )
        .fetch_all(&self.pool);
        let (rows, mut states) = tokio::try_join!(async { heads.await.map_err(StoreError::from) }, self.sheet_states())?;
        let mut summary = |row: &MySqlRow| {
            let id: Uuid = row.try_get("id")?;
            let mut states = states.remove(&id).unwrap_or_default();
            Ok::<_, sqlx::Error>(SheetSummary {
                sheet: Sheet { id, name: row.try_get("name")? },
                done: states.remove(&RunState::Done).unwrap_or(0),
                states,
                sources: row.try_get("sources")?,
                deliverables: row.try_get("deliverables")?,
                created: row.try_get("created")?,
            })
        };
        Ok(rows.iter().map(&mut summary).collect::<Result<_, _>>()?)
    }

    /// For each sheet, how many cells are in which state, by the newest run of each. Only where rows or columns were taken out
    /// is it asked of every cell whether it is still there.
    async fn sheet_states(&self) -> Result<HashMap<Uuid, HashMap<RunState, i64>>, StoreError> {
        const FROM: &str = "SELECT runs.sheet_id, runs.state, COUNT(*) AS cells FROM sheets \
             STRAIGHT_JOIN runs FORCE INDEX (latest_of_cell) ON runs.sheet_id = sheets.id AND runs.is_latest = 1 WHERE NOT sheets.removed";
        const LESS: &str = "sheets.id IN (SELECT sheet_id FROM deliverables WHERE removed UNION SELECT sheet_id FROM sheet_sources WHERE removed)";
        let whole = format!("{FROM} AND NOT {LESS} GROUP BY runs.sheet_id, runs.state");
        let less = format!(
            "{FROM} AND {LESS} AND runs.deliverable_id NOT IN (SELECT id FROM deliverables WHERE removed) \
             AND (runs.sheet_id, runs.source_id) NOT IN (SELECT sheet_id, source_id FROM sheet_sources WHERE removed) \
             GROUP BY runs.sheet_id, runs.state"
        );
        let (whole, less) = tokio::try_join!(
            sqlx::query(AssertSqlSafe(whole)).fetch_all(&self.pool),
            sqlx::query(AssertSqlSafe(less)).fetch_all(&self.pool)
        )?;
        let mut states: HashMap<Uuid, HashMap<RunState, i64>> = HashMap::new();
        for row in whole.iter().chain(&less) {
            let word: String = row.try_get("state")?;
            if let Some(state) = RunState::from_word(&word) {
                states.entry(row.try_get("sheet_id")?).or_default().insert(state, row.try_get("cells")?);
            }
        }
        Ok(states)
    }

    /// One sheet's head.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn sheet(&self, id: Uuid) -> Result<Sheet, StoreError> {
        let row =
            sqlx::query("SELECT id, name FROM sheets WHERE id = ? AND NOT removed").bind(id).fetch_optional(&self.pool).await?;
        let row = row.ok_or(StoreError::NotFound("sheet"))?;
        Ok(Sheet { id: row.try_get("id")?, name: row.try_get("name")? })
    }

    /// Adds a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_sheet(&self, name: &str) -> Result<Sheet, StoreError> {
        let id = Uuid::now_v7();
        sqlx::query("INSERT INTO sheets (id, name) VALUES (?, ?)").bind(id).bind(name).execute(&self.pool).await?;
        Ok(Sheet { id, name: name.to_owned() })
    }

    /// A second sheet with the sources, deliverables and settings of one, of which nothing is made yet.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn duplicate_sheet(&self, of: Uuid, name: &str) -> Result<Sheet, StoreError> {
        let mut work = self.pool.begin().await?;
        let id = Uuid::now_v7();
        let made = sqlx::query("INSERT INTO sheets (id, name) SELECT ?, ? FROM sheets WHERE id = ? AND NOT removed");
        if made.bind(id).bind(name).bind(of).execute(&mut *work).await?.rows_affected() == 0 {
            return Err(StoreError::NotFound("sheet"));
        }
        sqlx::query(
            "INSERT INTO sheet_sources (sheet_id, source_id, position, folder, overrides) \
             SELECT ?, source_id, position, folder, overrides FROM sheet_sources WHERE sheet_id = ? AND NOT removed",
        )
        .bind(id)
        .bind(of)
        .execute(&mut *work)
        .await?;
        let columns: Vec<Uuid> = sqlx::query_scalar("SELECT id FROM deliverables WHERE sheet_id = ? AND NOT removed")
            .bind(of)
            .fetch_all(&mut *work)
            .await?;
        for column in columns {
            let own = Uuid::now_v7();
            sqlx::query(
                "INSERT INTO deliverables (id, sheet_id, position, preset, storage_id, folder, name_pattern, clash) \
                 SELECT ?, ?, position, preset, storage_id, folder, name_pattern, clash FROM deliverables WHERE id = ?",
            )
            .bind(own)
            .bind(id)
            .bind(column)
            .execute(&mut *work)
            .await?;
            sqlx::query(
                "INSERT INTO outputs (deliverable_id, source_id, enabled, overrides) \
                 SELECT ?, source_id, enabled, overrides FROM outputs WHERE deliverable_id = ?",
            )
            .bind(own)
            .bind(column)
            .execute(&mut *work)
            .await?;
        }
        work.commit().await?;
        Ok(Sheet { id, name: name.to_owned() })
    }

    /// Gives a sheet another name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn rename_sheet(&self, id: Uuid, name: &str) -> Result<(), StoreError> {
        let changed = sqlx::query("UPDATE sheets SET name = ? WHERE id = ?").bind(name).bind(id).execute(&self.pool).await?;
        if changed.rows_affected() == 0 { Err(StoreError::NotFound("sheet")) } else { Ok(()) }
    }

    /// Puts a sheet away, or brings it back. What was made stays, and so does the record of its runs.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn set_sheet_removed(&self, id: Uuid, removed: bool) -> Result<(), StoreError> {
        let changed =
            sqlx::query("UPDATE sheets SET removed = ? WHERE id = ?").bind(removed).bind(id).execute(&self.pool).await?;
        if changed.rows_affected() == 0 { Err(StoreError::NotFound("sheet")) } else { Ok(()) }
    }

    /// The rows of a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn sheet_sources(&self, sheet: Uuid) -> Result<Vec<SheetSource>, StoreError> {
        let statement = format!(
            "SELECT {COLUMNS}, sheet_sources.folder, sheet_sources.overrides FROM sheet_sources JOIN sources ON sources.id = sheet_sources.source_id \
             WHERE sheet_sources.sheet_id = ? AND NOT sheet_sources.removed ORDER BY sheet_sources.position, sources.id"
        );
        let rows = sqlx::query(AssertSqlSafe(statement)).bind(sheet).fetch_all(&self.pool).await?;
        let sources = self.sources_of(&rows).await?;
        Ok(rows.iter().zip(sources).map(|(row, source)| sheet_source(row, source)).collect::<Result<_, _>>()?)
    }

    /// One row of a sheet, with its place among them, from 1.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where the source is not in the sheet.
    pub async fn sheet_source(&self, sheet: Uuid, source: Uuid) -> Result<(u32, SheetSource), StoreError> {
        let statement = format!(
            "SELECT {COLUMNS}, sheet_sources.folder, sheet_sources.overrides, (SELECT COUNT(*) FROM sheet_sources AS earlier \
             WHERE earlier.sheet_id = sheet_sources.sheet_id AND NOT earlier.removed \
             AND (earlier.position, earlier.source_id) <= (sheet_sources.position, sheet_sources.source_id)) AS place \
             FROM sheet_sources JOIN sources ON sources.id = sheet_sources.source_id \
             WHERE sheet_sources.sheet_id = ? AND sheet_sources.source_id = ? AND NOT sheet_sources.removed"
        );
        let rows = sqlx::query(AssertSqlSafe(statement)).bind(sheet).bind(source).fetch_all(&self.pool).await?;
        let source = self.sources_of(&rows).await?.pop();
        let (row, source) = rows.first().zip(source).ok_or(StoreError::NotFound("source in this sheet"))?;
        let place: i64 = row.try_get("place")?;
        Ok((u32::try_from(place).unwrap_or(u32::MAX), sheet_source(row, source)?))
    }

    /// Adds sources (with their folders) at the end of a sheet; those that stand there already stay
    /// where they are. Answers how many are new.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_sheet_sources(&self, sheet: Uuid, sources: &[(Uuid, String)]) -> Result<u64, StoreError> {
        let mut work = self.pool.begin().await?;
        let last: Option<i32> = sqlx::query_scalar("SELECT MAX(position) FROM sheet_sources WHERE sheet_id = ? FOR UPDATE")
            .bind(sheet)
            .fetch_one(&mut *work)
            .await?;
        let mut added = 0;
        for (position, (source, folder)) in (last.unwrap_or(0) + 1..).zip(sources) {
            let new = sqlx::query("INSERT IGNORE INTO sheet_sources (sheet_id, source_id, position, folder) VALUES (?, ?, ?, ?)")
                .bind(sheet)
                .bind(source)
                .bind(position)
                .bind(folder)
                .execute(&mut *work)
                .await?;
            let again = "UPDATE sheet_sources SET removed = FALSE, position = ? WHERE sheet_id = ? AND source_id = ? AND removed";
            let back = sqlx::query(again).bind(position).bind(sheet).bind(source).execute(&mut *work).await?;
            added += new.rows_affected() + back.rows_affected();
        }
        work.commit().await?;
        Ok(added)
    }

    /// Takes sources out of a sheet, or puts them back to where they stood, all or none.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_sheet_sources_removed(&self, sheet: Uuid, sources: &[Uuid], removed: bool) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        rows_are_of(&mut work, sheet, sources).await?;
        for some in sources.chunks(ROWS_AT_ONCE) {
            let mut query = sqlx::QueryBuilder::new("UPDATE sheet_sources SET removed = ");
            query.push_bind(removed).push(" WHERE sheet_id = ").push_bind(sheet).push(" AND source_id IN ");
            query.push_tuples(some, |mut row, source| {
                row.push_bind(source);
            });
            query.build().execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Sets the editor's own settings for all outputs of some sources in a sheet; nothing takes them away. Answers those
    /// that each had.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn set_row_settings(
        &self,
        sheet: Uuid,
        sources: &[Uuid],
        overrides: Option<&PresetPatch>,
    ) -> Result<Vec<(Uuid, PresetPatch)>, StoreError> {
        let overrides = overrides.map(json::text).transpose()?;
        let mut work = self.pool.begin().await?;
        rows_are_of(&mut work, sheet, sources).await?;
        let before = row_settings(&mut work, sheet, sources).await?;
        for some in sources.chunks(ROWS_AT_ONCE) {
            let mut query = sqlx::QueryBuilder::new("UPDATE sheet_sources SET overrides = ");
            query.push_bind(&overrides).push(" WHERE sheet_id = ").push_bind(sheet).push(" AND source_id IN ");
            query.push_tuples(some, |mut row, source| {
                row.push_bind(source);
            });
            query.build().execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(before)
    }

    /// Adds settings to those of some rows; where both set something, the new holds. Answers those that each had.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn add_row_settings(
        &self,
        sheet: Uuid,
        sources: &[Uuid],
        added: &PresetPatch,
    ) -> Result<Vec<(Uuid, PresetPatch)>, StoreError> {
        let mut work = self.pool.begin().await?;
        rows_are_of(&mut work, sheet, sources).await?;
        let before = row_settings(&mut work, sheet, sources).await?;
        for (source, own) in &before {
            let joined = own.clone().under(added.clone());
            sqlx::query("UPDATE sheet_sources SET overrides = ? WHERE sheet_id = ? AND source_id = ?")
                .bind(json::text(&joined)?)
                .bind(sheet)
                .bind(source)
                .execute(&mut *work)
                .await?;
        }
        work.commit().await?;
        Ok(before)
    }

    /// Lets a source stand in as many rows as there are settings, one after the other, the first in the
    /// row that it has. Answers the sources of all of them.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where the source is not in the sheet.
    pub async fn split_row(&self, sheet: Uuid, source: Uuid, settings: &[PresetPatch]) -> Result<Vec<Uuid>, StoreError> {
        let mut work = self.pool.begin().await?;
        let held = "SELECT copy FROM sources JOIN sheet_sources ON sources.id = sheet_sources.source_id \
                    JOIN (SELECT storage_id, path_key FROM sources WHERE id = ?) AS same \
                    ON same.storage_id = sources.storage_id AND same.path_key = sources.path_key \
                    WHERE sheet_id = ? AND NOT removed FOR UPDATE";
        let held: Vec<u32> = sqlx::query_scalar(held).bind(source).bind(sheet).fetch_all(&mut *work).await?;
        if held.is_empty() {
            return Err(StoreError::NotFound("source in this sheet"));
        }
        let mut free = (1..).filter(|copy| !held.contains(copy));
        let mut sources = Vec::new();
        for (place, own) in settings.iter().enumerate() {
            let id = if place == 0 {
                source
            } else {
                let copy: u32 = free.next().unwrap_or(u32::MAX);
                sqlx::query(
                    "INSERT IGNORE INTO sources (id, storage_id, path, sequence, state, reading, problem, has_thumbnail, scan, samples, copy) \
                     SELECT ?, storage_id, path, sequence, state, reading, problem, has_thumbnail, scan, samples, ? FROM sources WHERE id = ?",
                )
                .bind(Uuid::now_v7())
                .bind(copy)
                .bind(source)
                .execute(&mut *work)
                .await?;
                let made: Uuid = sqlx::query_scalar(
                    "SELECT copies.id FROM sources AS copies JOIN sources ON copies.storage_id = sources.storage_id \
                     AND copies.path_key = sources.path_key WHERE sources.id = ? AND copies.copy = ?",
                )
                .bind(source)
                .bind(copy)
                .fetch_one(&mut *work)
                .await?;
                sqlx::query("INSERT IGNORE INTO source_curves SELECT ?, curves FROM source_curves WHERE source_id = ?")
                    .bind(made)
                    .bind(source)
                    .execute(&mut *work)
                    .await?;
                sqlx::query(
                    "REPLACE INTO sheet_sources (sheet_id, source_id, position, folder) \
                     SELECT sheet_id, ?, position, folder FROM sheet_sources WHERE sheet_id = ? AND source_id = ?",
                )
                .bind(made)
                .bind(sheet)
                .bind(source)
                .execute(&mut *work)
                .await?;
                made
            };
            sqlx::query("UPDATE sheet_sources SET overrides = ? WHERE sheet_id = ? AND source_id = ?")
                .bind(json::text(own)?)
                .bind(sheet)
                .bind(id)
                .execute(&mut *work)
                .await?;
            sources.push(id);
        }
        work.commit().await?;
        Ok(sources)
    }

    /// The columns of a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn deliverables(&self, sheet: Uuid) -> Result<Vec<Deliverable>, StoreError> {
        let rows = sqlx::query("SELECT * FROM deliverables WHERE sheet_id = ? AND NOT removed ORDER BY position, id")
            .bind(sheet)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(deliverable).collect::<Result<_, _>>()?)
    }

    /// One column.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn deliverable(&self, id: Uuid) -> Result<Deliverable, StoreError> {
        let row = sqlx::query("SELECT * FROM deliverables WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        Ok(deliverable(&row.ok_or(StoreError::NotFound("deliverable"))?)?)
    }

    /// Adds a column at the end of its sheet, or changes the one with this id.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn save_deliverable(&self, column: &Deliverable) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO deliverables (id, sheet_id, position, preset, storage_id, folder, name_pattern, clash) \
             SELECT ?, ?, COALESCE(MAX(position), 0) + 1, ?, ?, ?, ?, ? FROM deliverables WHERE sheet_id = ? \
             ON DUPLICATE KEY UPDATE preset = VALUES(preset), storage_id = VALUES(storage_id), folder = VALUES(folder), \
             name_pattern = VALUES(name_pattern), clash = VALUES(clash)",
        )
        .bind(column.id)
        .bind(column.sheet)
        .bind(json::text(&column.preset)?)
        .bind(column.storage)
        .bind(column.folder.to_string())
        .bind(&column.name_pattern)
        .bind(clash_word(column.clash))
        .bind(column.sheet)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Takes a column out of its sheet, or puts it back with all that was set in it. What was made stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where there is none with this id.
    pub async fn set_deliverable_removed(&self, sheet: Uuid, id: Uuid, removed: bool) -> Result<(), StoreError> {
        let changed = sqlx::query("UPDATE deliverables SET removed = ? WHERE id = ? AND sheet_id = ?")
            .bind(removed)
            .bind(id)
            .bind(sheet)
            .execute(&self.pool)
            .await?;
        if changed.rows_affected() == 0 { Err(StoreError::NotFound("deliverable")) } else { Ok(()) }
    }

    /// What is set for single cells of a sheet.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn output_settings(&self, sheet: Uuid) -> Result<Vec<OutputSetting>, StoreError> {
        let rows = sqlx::query(
            "SELECT outputs.* FROM outputs JOIN deliverables ON deliverables.id = outputs.deliverable_id WHERE deliverables.sheet_id = ?",
        )
        .bind(sheet)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(setting).collect::<Result<_, _>>()?)
    }

    /// What is set for one cell, where something is.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn output_setting(&self, source: Uuid, deliverable: Uuid) -> Result<Option<OutputSetting>, StoreError> {
        let query =
            sqlx::query("SELECT * FROM outputs WHERE source_id = ? AND deliverable_id = ?").bind(source).bind(deliverable);
        Ok(query.fetch_optional(&self.pool).await?.as_ref().map(setting).transpose()?)
    }

    /// Sets single cells of a sheet, all or none.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] where one is no cell of it.
    pub async fn save_output_settings(&self, sheet: Uuid, settings: &[OutputSetting]) -> Result<(), StoreError> {
        let mut work = self.pool.begin().await?;
        let each_once = |id: fn(&OutputSetting) -> Uuid| settings.iter().map(id).collect::<HashSet<_>>().into_iter().collect();
        let rows: Vec<Uuid> = each_once(|setting| setting.source);
        let columns: Vec<Uuid> = each_once(|setting| setting.deliverable);
        rows_are_of(&mut work, sheet, &rows).await?;
        are_of(&mut work, sheet, &columns, ("deliverables", "id", "column in this sheet")).await?;
        for some in settings.chunks(ROWS_AT_ONCE) {
            let overrides = some.iter().map(|setting| setting.overrides.as_ref().map(json::text).transpose());
            let overrides = overrides.collect::<Result<Vec<_>, _>>()?;
            let mut query = sqlx::QueryBuilder::new("INSERT INTO outputs (deliverable_id, source_id, enabled, overrides) ");
            query.push_values(some.iter().zip(overrides), |mut row, (setting, overrides)| {
                row.push_bind(setting.deliverable).push_bind(setting.source).push_bind(setting.enabled).push_bind(overrides);
            });
            query.push(" ON DUPLICATE KEY UPDATE enabled = VALUES(enabled), overrides = VALUES(overrides)");
            query.build().execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(())
    }
}

/// The settings of these rows, which stay as they are until the work is done.
async fn row_settings(
    work: &mut sqlx::Transaction<'_, sqlx::MySql>,
    sheet: Uuid,
    sources: &[Uuid],
) -> Result<Vec<(Uuid, PresetPatch)>, StoreError> {
    let mut all = Vec::with_capacity(sources.len());
    for some in sources.chunks(ROWS_AT_ONCE) {
        let mut query = sqlx::QueryBuilder::new("SELECT source_id, overrides FROM sheet_sources WHERE sheet_id = ");
        query.push_bind(sheet).push(" AND source_id IN ");
        query.push_tuples(some, |mut row, source| {
            row.push_bind(source);
        });
        query.push(" FOR UPDATE");
        for row in query.build().fetch_all(&mut **work).await? {
            all.push((row.try_get("source_id")?, json::patch(row.try_get("overrides")?)?.unwrap_or_default()));
        }
    }
    Ok(all)
}

async fn rows_are_of(work: &mut Transaction<'_, MySql>, sheet: Uuid, sources: &[Uuid]) -> Result<(), StoreError> {
    are_of(work, sheet, sources, ("sheet_sources", "source_id", "source in this sheet")).await
}

/// Whether all of these are things of this sheet; each is named once.
async fn are_of(
    work: &mut Transaction<'_, MySql>,
    sheet: Uuid,
    ids: &[Uuid],
    (table, column, what): (&str, &str, &'static str),
) -> Result<(), StoreError> {
    for some in ids.chunks(ROWS_AT_ONCE) {
        let mut query = sqlx::QueryBuilder::new(format!("SELECT COUNT(DISTINCT {column}) FROM {table} WHERE sheet_id = "));
        query.push_bind(sheet).push(format!(" AND {column} IN "));
        query.push_tuples(some, |mut row, id| {
            row.push_bind(id);
        });
        let there: i64 = query.build_query_scalar().fetch_one(&mut **work).await?;
        let wanted = some.iter().collect::<HashSet<_>>().len();
        if usize::try_from(there).unwrap_or(0) < wanted {
            return Err(StoreError::NotFound(what));
        }
    }
    Ok(())
}
