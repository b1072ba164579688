//! What is expected of cells, remembered by value: a plan is a pure function, and sheets of thousands
//! of cells are asked for again and again.

use std::sync::{Arc, Mutex, PoisonError};

use beryl_core::after::forecast::{Forecast, forecast};
use beryl_core::path::StoragePath;
use beryl_core::plan::plan;
use beryl_core::preset::{Preset, PresetPatch, with_overrides};
use beryl_store::runs::{Run, SettingsId};
use beryl_store::sources::Known;
use beryl_store::{Database, StoreError};
use beryl_worker::NameParts;
use chrono::NaiveDate;
use foldhash::{HashMap, HashMapExt, HashSet};
use uuid::Uuid;

use crate::outputs::Wish;
use crate::views::WrittenRun;

/// Rows that are remembered; beyond that all are forgotten.
const MOST_ROWS: usize = 5000;
/// Runs that are remembered.
const MOST_RUNS: usize = 50_000;

/// What is expected of a cell.
#[derive(Debug, Clone)]
pub(crate) struct CellOutlook {
    /// What it is expected to weigh, or why nothing can be made there.
    pub(crate) forecast: Result<Forecast, String>,
    /// The settings by which it would be made, where they are sound.
    pub(crate) settings: Option<Arc<Preset>>,
    /// Where it would go.
    pub(crate) place: Option<Arc<OutputPlace>>,
}

/// Where an output would go.
#[derive(Debug)]
pub(crate) struct OutputPlace {
    storage: Uuid,
    stem: StoragePath,
    endings: Vec<String>,
}

impl OutputPlace {
    /// Its files: two outputs that would both get one of them would clash.
    pub(crate) fn files(&self) -> impl Iterator<Item = (Uuid, &StoragePath, &str)> {
        self.endings.iter().map(|ending| (self.storage, &self.stem, ending.as_str()))
    }
}

/// A cell that is asked for: its column, the column's preset and the wish for it.
pub(crate) struct Asked<'a> {
    pub(crate) column: Uuid,
    pub(crate) preset: &'a Arc<Preset>,
    pub(crate) wish: Wish<'a>,
}

/// The outlooks of cells that were asked for, their last runs as they are sent, and the settings that those had.
#[derive(Debug, Default)]
pub(crate) struct Forecasts {
    rows: Mutex<HashMap<Uuid, Row>>,
    runs: Mutex<HashMap<Uuid, (Arc<Run>, WrittenRun)>>,
    settings: Mutex<Settings>,
}

/// Equal settings are kept once, so that most comparisons are of two pointers.
#[derive(Debug, Default)]
struct Settings {
    of_runs: HashMap<SettingsId, Arc<Preset>>,
    by_document: HashMap<String, Arc<Preset>>,
}

impl Settings {
    fn shared(&mut self, settings: Preset) -> Arc<Preset> {
        let Ok(document) = serde_json::to_string(&settings) else { return Arc::new(settings) };
        if self.by_document.len() > MOST_ROWS {
            self.by_document.clear();
        }
        Arc::clone(self.by_document.entry(document).or_insert_with(|| Arc::new(settings)))
    }
}

#[derive(Debug)]
struct Row {
    known: Arc<Known>,
    cells: HashMap<Uuid, Kept>,
}

#[derive(Debug)]
struct Kept {
    preset: Arc<Preset>,
    overrides: PresetPatch,
    name: Option<NameParts>,
    named_by: NamedBy,
    outlook: Arc<CellOutlook>,
}

/// What gives an output its name, beside its plan.
#[derive(Debug, PartialEq, Eq)]
struct NamedBy {
    pattern: String,
    folder: String,
    destination: Option<(Uuid, StoragePath)>,
    counter: u32,
    sheet: String,
    date: NaiveDate,
}

impl NamedBy {
    fn of(wish: &Wish<'_>) -> Self {
        Self {
            pattern: wish.name_pattern.to_owned(),
            folder: wish.folder.to_owned(),
            destination: wish.destination.clone(),
            counter: wish.counter,
            sheet: wish.sheet.to_owned(),
            date: wish.date,
        }
    }

    fn is_of(&self, wish: &Wish<'_>) -> bool {
        self.pattern == wish.name_pattern
            && self.folder == wish.folder
            && self.destination == wish.destination
            && self.sheet == wish.sheet
            && (self.counter, self.date) == (wish.counter, wish.date)
    }
}

fn place_of(wish: &Wish<'_>, name: Option<&NameParts>) -> Option<Arc<OutputPlace>> {
    let name = name?;
    let (storage, stem) = wish.place(name).ok()?;
    Some(Arc::new(OutputPlace { storage, stem, endings: name.endings.clone() }))
}

impl Forecasts {
    /// The settings that runs had.
    pub(crate) async fn settings_of(
        &self,
        database: &Database,
        runs: impl Iterator<Item = &Run>,
    ) -> Result<HashMap<SettingsId, Arc<Preset>>, StoreError> {
        let wanted: HashSet<SettingsId> = runs.filter_map(|run| run.settings).collect();
        let known = |ids: &HashSet<SettingsId>| {
            let kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            ids.iter().filter_map(|id| Some((*id, Arc::clone(kept.of_runs.get(id)?)))).collect::<HashMap<_, _>>()
        };
        let found = known(&wanted);
        let unknown: Vec<SettingsId> = wanted.iter().copied().filter(|id| !found.contains_key(id)).collect();
        let read = database.run_settings(&unknown).await?;
        {
            let mut kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            for (id, settings) in read {
                let settings = kept.shared(settings);
                kept.of_runs.insert(id, settings);
            }
        }
        Ok(known(&wanted))
    }

    /// A run as it is sent, written once as long as it does not change.
    pub(crate) fn written(&self, run: &Arc<Run>) -> Option<WrittenRun> {
        let mut runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, written)) = runs.get(&run.id)
            && Arc::ptr_eq(known, run)
        {
            return Some(written.clone());
        }
        if runs.len() > MOST_RUNS {
            runs.clear();
        }
        let written = WrittenRun::of(run)?;
        runs.insert(run.id, (Arc::clone(run), written.clone()));
        Some(written)
    }

    /// A preset, where there is an equal one the same as that: whether two are equal is seen at once.
    pub(crate) fn shared(&self, preset: &Preset) -> Arc<Preset> {
        self.settings.lock().unwrap_or_else(PoisonError::into_inner).shared(preset.clone())
    }

    /// The outlooks of a row's cells.
    pub(crate) fn of_row(&self, source: Uuid, known: &Arc<Known>, cells: &[Asked<'_>]) -> Vec<Arc<CellOutlook>> {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        if rows.len() > MOST_ROWS {
            rows.clear();
        }
        let row = rows.entry(source).or_insert_with(|| Row { known: Arc::clone(known), cells: HashMap::new() });
        if !Arc::ptr_eq(&row.known, known) && row.known != *known {
            *row = Row { known: Arc::clone(known), cells: HashMap::new() };
        }
        cells.iter().map(|asked| self.outlook(row, asked)).collect()
    }

    fn outlook(&self, row: &mut Row, asked: &Asked<'_>) -> Arc<CellOutlook> {
        let Asked { column, preset, wish } = asked;
        let is_same = |kept: &&mut Kept| kept.preset == **preset && kept.overrides == *wish.overrides;
        if let Some(kept) = row.cells.get_mut(column).filter(is_same) {
            if !kept.named_by.is_of(wish) {
                kept.named_by = NamedBy::of(wish);
                Arc::make_mut(&mut kept.outlook).place = place_of(wish, kept.name.as_ref());
            }
            return Arc::clone(&kept.outlook);
        }
        let Known { reading, samples } = &*row.known;
        let planned = plan(reading, preset, wish.overrides);
        let name = planned.as_ref().ok().map(NameParts::of);
        let settings = with_overrides(preset, wish.overrides).ok().map(|preset| {
            let mut kept = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
            kept.shared(preset.settings())
        });
        let outlook = Arc::new(CellOutlook {
            place: place_of(wish, name.as_ref()),
            forecast: planned.map(|plan| forecast(&plan, &reading.facts, samples)).map_err(|error| error.to_string()),
            settings,
        });
        let (preset, overrides) = (Arc::clone(preset), wish.overrides.clone());
        let kept = Kept { preset, overrides, name, named_by: NamedBy::of(wish), outlook: Arc::clone(&outlook) };
        row.cells.insert(*column, kept);
        outlook
    }
}

#[cfg(test)]
mod tests {
    use beryl_core::facts::{Content, Facts, Picture, Stream};
    use beryl_core::flow::run::{ClashRule, RunState};
    use beryl_core::picture::{Colour, FieldOrder, Orientation};
    use beryl_core::preset::builtin;
    use beryl_core::reading::Reading;
    use beryl_core::time::Rational;
    use beryl_core::units::ByteSize;
    use beryl_store::sources::{Knowledge, ScanState, Source};

    use super::*;

    fn known(seconds: i64) -> Arc<Known> {
        let duration = Some(Rational::whole(seconds));
        let picture = Picture {
            width: 1920,
            height: 1080,
            pixel_aspect: Rational::ONE,
            pixel_format: "yuv420p".into(),
            depth: 8,
            frame_rate: Some(Rational::whole(25)),
            varies: false,
            dominant_rate: None,
            frames: Some(25 * seconds.unsigned_abs()),
            frames_are_counted: false,
            field_order: FieldOrder::Progressive,
            colour: Colour::default(),
            hdr: None,
            orientation: Orientation::default(),
            still: false,
        };
        let stream = Stream {
            index: 0,
            codec: "prores".to_owned(),
            codec_tag: String::new(),
            profile: None,
            level: None,
            bit_rate: None,
            start: Some(Rational::ZERO),
            duration,
            language: None,
            title: None,
            roles: Vec::new(),
            content: Content::Picture(Box::new(picture)),
        };
        let facts = Facts {
            container: "mov".to_owned(),
            container_name: "QuickTime / MOV".to_owned(),
            size: ByteSize(1_000_000_000),
            duration,
            start: Rational::ZERO,
            bit_rate: None,
            timecode: None,
            reel: Some("C014".to_owned()),
            tags: std::collections::BTreeMap::new(),
            chapters: Vec::new(),
            streams: vec![stream],
            remarks: Vec::new(),
            missing: None,
        };
        Arc::new(Known { reading: Reading { facts, findings: None }, samples: Vec::new() })
    }

    fn source(known: &Arc<Known>) -> Source {
        Source {
            id: Uuid::from_u128(1),
            storage: Uuid::from_u128(2),
            path: "card/clip.mov".parse().expect("a path"),
            sequence: None,
            knowledge: Knowledge::Read(Arc::clone(known)),
            has_thumbnail: false,
            scan: ScanState::Waiting,
            copy: 0,
        }
    }

    fn wish<'a>(source: &'a Source, preset: &'a Preset, own: &'a PresetPatch, pattern: &'a str, sheet: &'a str) -> Wish<'a> {
        let date = NaiveDate::from_ymd_opt(2031, 5, 28).expect("a day");
        Wish {
            source,
            folder: "",
            preset,
            overrides: own,
            name_pattern: pattern,
            destination: None,
            clash: ClashRule::Number,
            counter: 1,
            sheet,
            date,
        }
    }

    /// The outlook of one cell.
    fn asked(forecasts: &Forecasts, known: &Arc<Known>, wish: Wish<'_>) -> Arc<CellOutlook> {
        let preset = forecasts.shared(wish.preset);
        let column = Uuid::from_u128(3);
        let mut row = forecasts.of_row(wish.source.id, known, &[Asked { column, preset: &preset, wish }]);
        row.pop().expect("an outlook")
    }

    fn stem(outlook: &CellOutlook) -> String {
        outlook.place.as_ref().map_or_else(String::new, |place| place.stem.to_string())
    }

    #[test]
    fn a_cell_is_planned_again_when_its_settings_change_and_only_named_again_when_its_name_does() {
        let (forecasts, known) = (Forecasts::default(), known(60));
        let (web, small) = (builtin("web-1080").expect("a preset"), builtin("review-small").expect("a preset"));
        let (source, none) = (source(&known), PresetPatch::default());
        let first = asked(&forecasts, &known, wish(&source, &web, &none, "<name>_<preset>", "Evening"));
        assert_eq!(stem(&first), "card/clip_web-1080");
        let again = asked(&forecasts, &known, wish(&source, &web, &none, "<name>_<preset>", "Evening"));
        assert!(Arc::ptr_eq(&first, &again), "it is remembered");

        let renamed = asked(&forecasts, &known, wish(&source, &web, &none, "<sheet>/<reel>_<name>", "Evening"));
        assert_eq!(stem(&renamed), "card/Evening/C014_clip");
        assert_eq!(renamed.forecast, first.forecast);
        let moved = asked(&forecasts, &known, wish(&source, &web, &none, "<sheet>/<reel>_<name>", "Morning"));
        assert_eq!(stem(&moved), "card/Morning/C014_clip", "the name of the sheet is in it");

        let other = asked(&forecasts, &known, wish(&source, &small, &none, "<name>_<preset>", "Evening"));
        assert_ne!(other.forecast, first.forecast);
        let own = PresetPatch::from_settings(&["picture.rate.bits_per_second=1000000"]).expect("a patch");
        let lighter = asked(&forecasts, &known, wish(&source, &web, &own, "<name>_<preset>", "Evening"));
        let size = |outlook: &CellOutlook| outlook.forecast.as_ref().map(|forecast| forecast.size.0).unwrap_or_default();
        assert!(size(&lighter) < size(&first) && size(&lighter) > 0);
        assert_ne!(lighter.settings, first.settings);
    }

    #[test]
    fn what_was_read_anew_is_planned_anew_and_an_equal_reading_is_not() {
        let forecasts = Forecasts::default();
        let (web, none) = (builtin("web-1080").expect("a preset"), PresetPatch::default());
        let minute = known(60);
        let first = asked(&forecasts, &minute, wish(&source(&minute), &web, &none, "<name>", "Evening"));
        let equal = known(60);
        let same = asked(&forecasts, &equal, wish(&source(&equal), &web, &none, "<name>", "Evening"));
        assert!(Arc::ptr_eq(&first, &same));
        let longer = known(120);
        let other = asked(&forecasts, &longer, wish(&source(&longer), &web, &none, "<name>", "Evening"));
        let size = |outlook: &CellOutlook| outlook.forecast.as_ref().map(|forecast| forecast.size.0).expect("a forecast");
        assert!(size(&other) > size(&first) * 3 / 2);
    }

    #[test]
    fn what_cannot_be_made_says_why_and_has_no_place() {
        let (forecasts, known) = (Forecasts::default(), known(60));
        let (sound, none) = (builtin("sound-only").expect("a preset"), PresetPatch::default());
        let refused = asked(&forecasts, &known, wish(&source(&known), &sound, &none, "<name>", "Evening"));
        assert_eq!(refused.forecast, Err("the source has no sound".to_owned()));
        assert!(refused.place.is_none());
        // A name that cannot be is no reason not to forecast.
        let web = builtin("web-1080").expect("a preset");
        let nameless = asked(&forecasts, &known, wish(&source(&known), &web, &none, "<client>", "Evening"));
        assert!(nameless.forecast.is_ok() && nameless.place.is_none());
    }

    #[test]
    fn a_run_is_written_once_as_long_as_it_is_the_same() {
        let forecasts = Forecasts::default();
        let run = |state| {
            Arc::new(Run {
                id: Uuid::from_u128(9),
                seq: 1,
                source: Uuid::from_u128(1),
                deliverable: None,
                sheet: None,
                watch_folder: None,
                state,
                priority: 0,
                storage: Uuid::from_u128(2),
                stem: "made/clip".parse().expect("a path"),
                clash: ClashRule::Number,
                attempts: 1,
                files: Vec::new(),
                size: None,
                problem: None,
                progress: None,
                started: None,
                finished: None,
                released_because: None,
                notes: 0,
                settings: None,
            })
        };
        let text = |run: &Arc<Run>| serde_json::to_string(&forecasts.written(run)).expect("a text");
        let waiting = run(RunState::Waiting);
        assert!(text(&waiting).contains("\"waiting\""));
        assert_eq!(text(&waiting), text(&waiting));
        assert!(text(&run(RunState::Done)).contains("\"done\""), "a run that has changed is written anew");
        let (one, other) = (builtin("web-1080").expect("a preset"), builtin("web-1080").expect("a preset"));
        assert!(Arc::ptr_eq(&forecasts.shared(&one), &forecasts.shared(&other)), "equal presets are one");
    }
}
