//! Small pictures of sources and of files that may become some: made once, kept in the cache, made again where they have gone.

use std::sync::Arc;

use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::{ShownField, SourceRef, Still};
use beryl_core::time::Rational;
use beryl_worker::Engine;
use tokio::sync::Semaphore;

use crate::cache::Cache;

/// Columns of a small picture.
const WIDTH: u32 = 224;
/// Engines that make small pictures at the same time: whoever scrolls through a folder asks for dozens.
const AT_ONCE: usize = 2;

/// Makes small pictures.
#[derive(Debug, Clone)]
pub(crate) struct Pictures {
    engine: Engine,
    cache: Cache,
    turns: Arc<Semaphore>,
}

impl Pictures {
    pub(crate) fn new(engine: &Engine, cache: &Cache) -> Self {
        Self { engine: engine.clone(), cache: cache.clone(), turns: Arc::new(Semaphore::new(AT_ONCE)) }
    }

    /// The picture with this name in the cache, made of the first of these moments that the source has where it is not there.
    ///
    /// # Errors
    /// A [`Problem`] where the source cannot be read.
    pub(crate) async fn small_picture(
        &self,
        source: &SourceRef,
        moments: &[Rational],
        name: &StoragePath,
    ) -> Result<Vec<u8>, Problem> {
        let file = self.cache.file(name);
        let unread = |error: std::io::Error| Problem::from_io("the picture could not be read", &error);
        match tokio::fs::read(&file).await {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            read => return read.map_err(unread),
        }
        let _turn = self.turns.acquire().await;
        self.make(source, moments, name).await?;
        tokio::fs::read(&file).await.map_err(unread)
    }

    /// Makes a small picture of the first of these moments that the source has.
    ///
    /// # Errors
    /// A [`Problem`] where the source cannot be read.
    pub(crate) async fn make(&self, source: &SourceRef, moments: &[Rational], name: &StoragePath) -> Result<(), Problem> {
        let output = self.cache.reference(name.clone());
        let mut open = self.engine.stills_beside(source, &output).await?;
        let still = |at| Still { at, width: WIDTH, field: ShownField::Both, shape: None, scope: None, output: output.clone() };
        let mut refused = None;
        for at in moments {
            match open.write(still(*at)).await {
                Ok(()) => return Ok(()),
                Err(problem) if open.is_open() => refused = Some(problem),
                Err(problem) => return Err(refused.unwrap_or(problem)),
            }
        }
        refused.map_or(Ok(()), Err)
    }
}
