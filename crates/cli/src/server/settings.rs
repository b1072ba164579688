//! `beryl settings`

use std::process::ExitCode;

use beryl_core::problem::Problem;
use clap::Subcommand;
use serde_json::{Value, json};

use super::client::Server;
use crate::terminal::say;

/// Settings of the server.
#[derive(Debug, Subcommand)]
pub(crate) enum SettingsTask {
    /// Show the settings.
    Show,
    /// Change settings.
    Set {
        /// Job slots: how many jobs run at once.
        #[arg(long, value_name = "NUMBER")]
        slots: Option<u32>,
        /// For how many days a file waits that is not as planned.
        #[arg(long, value_name = "DAYS")]
        withheld_days: Option<u32>,
        /// The house's time zone, by its name in the IANA database.
        #[arg(long, value_name = "ZONE")]
        time_zone: Option<String>,
    },
}

pub(crate) async fn run(server: &Server, task: &SettingsTask) -> Result<ExitCode, Problem> {
    let mut settings = server.get("/api/settings").await?;
    if let SettingsTask::Set { slots, withheld_days, time_zone } = task {
        let wanted = [("engine_slots", slots), ("withheld_days", withheld_days)];
        wanted
            .iter()
            .filter_map(|(key, value)| value.map(|value| (*key, value)))
            .for_each(|(key, value)| settings[key] = json!(value));
        time_zone.iter().for_each(|zone| settings["time_zone"] = json!(zone));
        settings = server.put("/api/settings", &settings).await?;
    }
    server.show(&settings, |settings: Value| {
        say!("{} job slots", settings["engine_slots"]);
        say!("files that are not as planned wait for {} days", settings["withheld_days"]);
        say!("times are those of {}", settings["time_zone"].as_str().unwrap_or_default());
    })?;
    Ok(ExitCode::SUCCESS)
}
