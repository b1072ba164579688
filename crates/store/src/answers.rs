//! Answers to requests that create something, by the key that their sender gave them: who asks twice, because the
//! first answer was lost on its way, gets the same answer and not a second thing.

use sqlx::Row;

use crate::{Database, StoreError};

/// Hours for which an answer is kept.
const KEPT_HOURS: u32 = 24;

/// What is known of a request with a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// It has not been asked before; whoever asks now answers.
    First,
    /// It is being answered.
    Underway,
    /// It was answered so.
    Before {
        /// The status.
        status: u16,
        /// The body.
        body: Vec<u8>,
    },
    /// The key was given to another request.
    Other,
}

impl Database {
    /// Notes that a request with this key is being answered, where none was before. `request` is all that makes it
    /// what it is.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn ask(&self, key: &str, request: &[u8]) -> Result<Asked, StoreError> {
        let noted = sqlx::query("INSERT IGNORE INTO answers (request_key, request) VALUES (?, UNHEX(SHA2(?, 256)))")
            .bind(key.as_bytes())
            .bind(request)
            .execute(&self.pool)
            .await?;
        if noted.rows_affected() > 0 {
            return Ok(Asked::First);
        }
        let known = sqlx::query("SELECT request = UNHEX(SHA2(?, 256)) AS same, status, body FROM answers WHERE request_key = ?")
            .bind(request)
            .bind(key.as_bytes())
            .fetch_optional(&self.pool)
            .await?;
        let Some(known) = known else { return Ok(Asked::Underway) };
        let status: Option<u16> = known.try_get("status")?;
        Ok(match (known.try_get("same")?, status) {
            (false, _) => Asked::Other,
            (true, None) => Asked::Underway,
            (true, Some(status)) => Asked::Before { status, body: known.try_get::<Option<_>, _>("body")?.unwrap_or_default() },
        })
    }

    /// Keeps the answer to the request with this key.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn keep_answer(&self, key: &str, status: u16, body: &[u8]) -> Result<(), StoreError> {
        sqlx::query("UPDATE answers SET status = ?, body = ? WHERE request_key = ?")
            .bind(status)
            .bind(body)
            .bind(key.as_bytes())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Forgets a request whose answer was none: it may be asked again.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn forget_request(&self, key: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM answers WHERE request_key = ?").bind(key.as_bytes()).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets old answers, and requests that an earlier start has left unanswered.
    ///
    /// # Errors
    /// [`StoreError`] where the database does not answer.
    pub async fn clear_answers(&self) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM answers WHERE status IS NULL OR created < NOW(6) - INTERVAL ? HOUR")
            .bind(KEPT_HOURS)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
