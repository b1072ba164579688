//! What can go wrong with the database.

/// Why the store could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// There is no such thing.
    #[error("there is no such {0}")]
    NotFound(&'static str),
    /// Somebody else was faster, or the lease is lost.
    #[error("it has changed meanwhile")]
    Changed,
    /// The name is taken.
    #[error("the name “{0}” is taken")]
    NameTaken(String),
    /// It is still in use.
    #[error("{0} is still in use")]
    InUse(&'static str),
    /// The database could not be set up.
    #[error("the database could not be set up: {0}")]
    Setup(String),
    /// It does not fit what is kept: too long, out of range.
    #[error("it cannot be kept: {0}")]
    Unfit(String),
    /// The database is away or refused.
    #[error("the database could not be asked: {0}")]
    Database(sqlx::Error),
}

/// The number that MariaDB gives an error.
fn number(error: &sqlx::Error) -> Option<u16> {
    let sqlx::Error::Database(error) = error else { return None };
    error.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().map(sqlx::mysql::MySqlDatabaseError::number)
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        match number(&error) {
            // A foreign key that leads nowhere.
            Some(1452) => Self::NotFound("thing as the one that it belongs to"),
            // Data too long, out of range, not of its kind, a row or a packet too large.
            Some(1406 | 1264 | 1292 | 1366 | 1118 | 1153) => Self::Unfit(error.to_string()),
            _ => Self::Database(error),
        }
    }
}

impl StoreError {
    /// Whether the same call may succeed in a moment: the connection broke, or two writers met.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        match self {
            Self::Database(
                sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut | sqlx::Error::Protocol(_) | sqlx::Error::WorkerCrashed,
            ) => true,
            Self::Database(error) => {
                // Deadlock, lock wait, record changed, shutting down, too many connections, gone away.
                const PASSING: [u16; 8] = [1213, 1205, 1020, 1053, 1040, 2006, 1927, 1152];
                number(error).is_some_and(|number| PASSING.contains(&number))
            }
            _ => false,
        }
    }

    /// Turns “duplicate key” into a taken name.
    pub(crate) fn or_taken(error: sqlx::Error, name: &str) -> Self {
        match &error {
            sqlx::Error::Database(database) if database.is_unique_violation() => Self::NameTaken(name.to_owned()),
            _ => Self::Database(error),
        }
    }

    /// Turns “a foreign key refers to it” into “in use”.
    pub(crate) fn or_in_use(error: sqlx::Error, what: &'static str) -> Self {
        match &error {
            sqlx::Error::Database(database) if database.is_foreign_key_violation() => Self::InUse(what),
            _ => Self::Database(error),
        }
    }
}
