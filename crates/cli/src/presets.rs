//! `beryl presets`

use std::process::ExitCode;

use beryl_core::catalogue::{Kind, Limits, Setting};
use beryl_core::preset::catalogue::catalogue;
use beryl_core::preset::preset_schema;
use beryl_core::problem::Problem;

use crate::arguments::PresetsTask;
use crate::terminal::{all_presets, json_line, report, say};

pub(crate) fn run(task: &PresetsTask) -> Result<ExitCode, Problem> {
    let (presets, unreadable) = all_presets(&task.state);
    unreadable.iter().for_each(report);
    if task.schema {
        json_line(&preset_schema());
    } else if task.settings && task.json {
        json_line(&catalogue());
    } else if task.settings {
        print_settings();
    } else if task.json {
        json_line(&presets);
    } else {
        for preset in presets {
            say!(
                "{:16} {} ({}, {}, {})",
                preset.id,
                preset.name,
                preset.container.words(),
                preset.headline(),
                preset.frame_words()
            );
            say!("{:16} {}", "", preset.use_when);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Every setting with its values, as `--set` takes them.
pub(crate) fn print_settings() {
    for section in catalogue() {
        say!("{}", section.name);
        for setting in &section.settings {
            print_setting(setting, 2);
        }
    }
}

fn print_setting(setting: &Setting, indent: usize) {
    let term = setting.term.map_or_else(String::new, |term| format!(" ({term})"));
    say!("{:indent$}{}  {}{term}: {}", "", setting.place, setting.name, values(&setting.kind));
    say!("{:indent$}    {}", "", setting.says);
    if let Kind::Rule { tag, forms } = &setting.kind {
        for form in forms {
            say!("{:indent$}    {}.{tag}={}  {}", "", setting.place, form.value, form.says);
            for own in &form.settings {
                say!("{:indent$}      {}.{}  {}: {}", "", setting.place, own.place, own.name, values(&own.kind));
            }
        }
    }
}

/// The values of a setting in a few words.
fn values(kind: &Kind) -> String {
    match kind {
        Kind::Switch => "true or false".to_owned(),
        Kind::Choice { of, or_fraction } => {
            let plain = |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            let mut words: Vec<String> = of.iter().map(|choice| plain(&choice.value)).collect();
            words.extend(or_fraction.map(|field| format!("{{\"{field}\": \"16/15\"}}")));
            words.join(", ")
        }
        Kind::Number(limits) | Kind::BitRate(limits) => limits_words(limits, "a whole number"),
        Kind::Fraction(limits) => limits_words(limits, "a fraction such as 30000/1001"),
        Kind::Text => "a text".to_owned(),
        Kind::File { holds: "lut" } => "the name of a LUT".to_owned(),
        Kind::File { .. } => "the name of a picture".to_owned(),
        Kind::Language => "a language such as eng".to_owned(),
        Kind::Pattern { tokens } => {
            tokens.iter().map(|token| format!("<{}>: {}", token.word, token.says)).collect::<Vec<_>>().join(", ")
        }
        Kind::Tracks => "tracks such as [{\"from\": [{\"stream\": 1, \"channels\": [0, 1]}], \"language\": \"eng\"}]".to_owned(),
        Kind::Parts => "parts such as [{\"from\": \"10\", \"to\": \"20\"}]".to_owned(),
        Kind::Rule { .. } => "one of these forms".to_owned(),
    }
}

fn limits_words(limits: &Limits, what: &str) -> String {
    let unit = if limits.unit.is_empty() { String::new() } else { format!(" {}", limits.unit) };
    match (limits.least, limits.most) {
        (Some(least), Some(most)) => format!("{what} from {least} to {most}{unit}"),
        (Some(least), None) => format!("{what} from {least}{unit}"),
        (None, Some(most)) => format!("{what} up to {most}{unit}"),
        (None, None) => format!("{what}{unit}"),
    }
}
