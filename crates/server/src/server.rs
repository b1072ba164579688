//! The start and the end of the server.

use std::fs::Permissions;
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::serve::Listener;
use beryl_core::problem::Problem;
use beryl_store::{Database, StoreError};
use beryl_worker::{Engine, KnownStorages};
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::watch;

use crate::api;
use crate::app::{App, OwnFolders, ending};
use crate::clock::HouseClock;
use crate::scheduler::Slots;
use crate::stills::StillPool;
use crate::upkeep::Upkeep;

/// How the server is to be run.
#[derive(Debug, Clone)]
pub struct Config {
    /// Where to listen. Only loopback is allowed, since there are no accounts.
    pub listen: SocketAddr,
    /// Beryl's own folder: what can be made again, what engines work with, and the private database.
    pub state: PathBuf,
    /// The database.
    pub database: String,
    /// The name of this installation among the workers: one for each state folder.
    pub installation: String,
}

/// Why the server did not start.
#[derive(Debug, thiserror::Error)]
pub enum ServerError {
    /// Others could reach it.
    #[error("{0} can be reached from other machines, which needs accounts, and there are none yet: listen on 127.0.0.1")]
    NotLoopback(IpAddr),
    /// The port is taken or the like.
    #[error("it is not possible to listen on {address}: {source}")]
    Listen {
        /// Where.
        address: SocketAddr,
        /// Why.
        source: std::io::Error,
    },
    /// A folder of its own cannot be made or cleared.
    #[error("the folder {folder} cannot be made: {source}")]
    Folder {
        /// Which.
        folder: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The database is away.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The engine is missing.
    #[error(transparent)]
    Engine(#[from] Problem),
}

fn own_folder(folder: PathBuf) -> Result<PathBuf, ServerError> {
    match std::fs::create_dir_all(&folder).and_then(|()| folder.canonicalize()) {
        Ok(folder) => Ok(folder),
        Err(source) => Err(ServerError::Folder { folder, source }),
    }
}

/// A socket in the state folder, for the command line of the same person. Without it there is the address.
fn own_socket(state: &Path) -> Option<UnixListener> {
    let place = state.join("socket");
    // One that is there is left of an earlier start: only one server works on a state folder.
    drop(std::fs::remove_file(&place));
    let only_own = |listener| std::fs::set_permissions(&place, Permissions::from_mode(0o600)).map(|()| listener);
    match UnixListener::bind(&place).and_then(only_own) {
        Ok(listener) => Some(listener),
        Err(error) => {
            tracing::warn!(%error, place = %place.display(), "there is no socket to listen on");
            None
        }
    }
}

async fn serve<L>(listener: L, router: axum::Router, mut stopped: watch::Receiver<bool>)
where
    L: Listener,
    L::Addr: std::fmt::Debug,
{
    let serving = axum::serve(listener, router).with_graceful_shutdown(async move { ending(&mut stopped).await });
    if let Err(error) = serving.await {
        tracing::error!(%error, "serving ended");
    }
}

/// A running server.
#[derive(Debug)]
pub struct Server {
    address: SocketAddr,
    stop: watch::Sender<bool>,
    tasks: Vec<tokio::task::JoinHandle<()>>,
}

/// Takes as many open files as the system lets it have: each connection is one, and shells give few.
fn allow_many_connections() {
    let raised = getrlimit(Resource::RLIMIT_NOFILE).and_then(|(_, most)| setrlimit(Resource::RLIMIT_NOFILE, most, most));
    if let Err(error) = raised {
        tracing::info!(%error, "the number of open files stays what it was");
    }
}

impl Server {
    /// Starts everything; answers when requests are taken.
    ///
    /// # Errors
    /// [`ServerError`] where it cannot listen or has no database or engine.
    pub async fn start(config: Config) -> Result<Self, ServerError> {
        if !config.listen.ip().is_loopback() {
            return Err(ServerError::NotLoopback(config.listen.ip()));
        }
        allow_many_connections();
        let database = Database::connect(&config.database).await?;
        let cache = own_folder(config.state.join("cache"))?;
        let scratch = config.state.join("scratch");
        // What engines of an earlier start have left is of no use.
        match std::fs::remove_dir_all(&scratch) {
            Err(source) if source.kind() != std::io::ErrorKind::NotFound => {
                return Err(ServerError::Folder { folder: scratch, source });
            }
            _ => {}
        }
        let scratch = own_folder(scratch)?;
        let presets = own_folder(config.state.join("presets"))?;
        let known_storages = KnownStorages::default();
        let engine = Engine::locate_working_in(scratch.clone(), &known_storages)?;
        let listening =
            TcpListener::bind(config.listen).await.and_then(|listener| listener.local_addr().map(|address| (listener, address)));
        let (listener, address) = listening.map_err(|source| ServerError::Listen { address: config.listen, source })?;
        let clock = HouseClock::load(&database).await?;
        let slots = Slots::new(&config.installation);
        let own = OwnFolders { cache, scratch, database: config.state.join("database"), presets };
        let app = Arc::new(App::assemble(database, engine, known_storages, clock, slots, own));
        if let Err(error) = app.cache.clear_strays().await {
            tracing::warn!(%error, "the cache could not be cleared of what nothing belongs to");
        }
        app.storages.tell().await?;
        app.house_presets.write().await;
        if let Err(error) = app.database.clear_answers().await {
            tracing::warn!(%error, "old answers could not be cleared away");
        }
        let (stop, stopped) = watch::channel(false);
        let marking = app.storages.clone();
        let upkeep = Upkeep { database: app.database.clone(), door: Arc::clone(&app.door), cache: app.cache.clone() };
        let mut tasks = vec![
            // A share that does not answer keeps nobody waiting.
            tokio::spawn(async move {
                if let Err(error) = marking.mark_those_without().await {
                    tracing::warn!(%error, "storages could not be marked");
                }
            }),
            tokio::spawn(app.reader.clone().run(stopped.clone())),
            tokio::spawn(app.scanner.clone().run(stopped.clone())),
            tokio::spawn(Arc::clone(&app.proving).run(stopped.clone())),
            tokio::spawn(app.scheduler.clone().run(stopped.clone())),
            tokio::spawn(app.watching.clone().run(stopped.clone())),
            tokio::spawn(upkeep.run(stopped.clone())),
        ];
        let (closing, mut until) = (Arc::clone(&app), stopped.clone());
        tasks.push(tokio::spawn(async move {
            let mut tick = tokio::time::interval(StillPool::every());
            loop {
                tokio::select! {
                    _ = tick.tick() => closing.stills.close_idle(),
                    () = ending(&mut until) => return closing.stills.close(),
                }
            }
        }));
        let (telling, mut until) = (Arc::clone(&app), stopped.clone());
        tasks.push(tokio::spawn(async move {
            ending(&mut until).await;
            telling.hub.end();
        }));
        let router = api::router(app);
        if let Some(socket) = own_socket(&config.state) {
            tasks.push(tokio::spawn(serve(socket, router.clone(), stopped.clone())));
        }
        tasks.push(tokio::spawn(serve(listener, router, stopped)));
        Ok(Self { address, stop, tasks })
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// Ends it: engines put their things away, what they worked on goes on after the next start.
    pub async fn stop(self) {
        self.stop.send_replace(true);
        for task in self.tasks {
            // Somebody may be in the middle of a long download.
            if tokio::time::timeout(std::time::Duration::from_secs(3), task).await.is_err() {
                tracing::info!("a task was still busy and is left");
            }
        }
    }
}
