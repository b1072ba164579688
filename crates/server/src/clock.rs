//! The clock of the house: its time zone, by which people read times and days get their names.

use std::sync::{PoisonError, RwLock};

use beryl_store::{Database, StoreError};
use chrono::NaiveDate;
use chrono_tz::Tz;

const ZONE_SETTING: &str = "time_zone";

/// The clock of the house.
#[derive(Debug)]
pub(crate) struct HouseClock(RwLock<Tz>);

impl HouseClock {
    /// In the time zone that was set; until one is, in that of the machine.
    pub(crate) async fn load(database: &Database) -> Result<Self, StoreError> {
        let set: Option<String> = database.setting(ZONE_SETTING).await?;
        let zone = set.or_else(|| iana_time_zone::get_timezone().ok()).and_then(|name| name.parse().ok());
        Ok(Self(RwLock::new(zone.unwrap_or(Tz::UTC))))
    }

    /// The time zone.
    pub(crate) fn zone(&self) -> Tz {
        *self.0.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Another time zone.
    pub(crate) async fn set_zone(&self, database: &Database, zone: Tz) -> Result<(), StoreError> {
        database.save_setting(ZONE_SETTING, &zone.name()).await?;
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = zone;
        Ok(())
    }

    /// The day in the house.
    pub(crate) fn today(&self) -> NaiveDate {
        chrono::Utc::now().with_timezone(&self.zone()).date_naive()
    }
}
