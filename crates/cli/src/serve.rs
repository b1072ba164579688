//! `beryl serve`

use std::path::Path;
use std::process::ExitCode;

use beryl_core::problem::{Problem, ProblemKind};
use beryl_server::{Config, Server};
use beryl_store::private_server::PrivateServer;
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::EnvFilter;

use crate::arguments::ServeTask;
use crate::demo;
use crate::terminal::say;

/// Writes the description of the API.
// The same form as the other commands, which can fail.
#[allow(clippy::unnecessary_wraps)]
pub(crate) fn describe() -> Result<ExitCode, Problem> {
    say!("{}", beryl_server::describe());
    Ok(ExitCode::SUCCESS)
}

pub(crate) async fn run(task: &ServeTask) -> Result<ExitCode, Problem> {
    let filter = EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new("warn"));
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    let not_started = |error: &dyn std::fmt::Display| {
        Problem::new(ProblemKind::Internal, "the application could not be started", error.to_string())
    };
    std::fs::create_dir_all(&task.state)
        .map_err(|error| Problem::from_io(format!("the folder {} could not be made", task.state.display()), &error))?;
    let state = task
        .state
        .canonicalize()
        .map_err(|error| Problem::from_io(format!("the folder {} could not be found", task.state.display()), &error))?;
    let _only_one = lock(&state)?;
    let private = match &task.database {
        Some(_) => None,
        None => Some(PrivateServer::start(&state.join("database")).map_err(|error| not_started(&error))?),
    };
    let database = task.database.clone().or_else(|| private.as_ref().map(PrivateServer::url)).unwrap_or_default();
    let config = Config { listen: task.listen, state: state.clone(), database, installation: installation(&state)? };
    let server = Server::start(config).await.map_err(|error| not_started(&error))?;
    let address = format!("http://{}", server.address());
    if task.demo {
        demo::seed(&address, &state).await?;
    }
    say!("Beryl is at {address}");
    wait_for_end().await.map_err(|error| not_started(&error))?;
    say!("Ending. What was at work goes on at the next start.");
    server.stop().await;
    drop(private);
    Ok(ExitCode::SUCCESS)
}

/// The name of this installation, made at its first start and kept in its state folder.
fn installation(state: &Path) -> Result<String, Problem> {
    let file = state.join("installation");
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be used", file.display()), &error);
    match std::fs::read_to_string(&file) {
        Ok(name) if !name.trim().is_empty() => Ok(name.trim().to_owned()),
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(failed(error)),
        Ok(_) | Err(_) => {
            let name = uuid::Uuid::new_v4().to_string();
            std::fs::write(&file, &name).map_err(failed)?;
            Ok(name)
        }
    }
}

/// Two servers on one state folder would work against each other.
fn lock(state: &Path) -> Result<std::fs::File, Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("the folder {} could not be used", state.display()), &error);
    let file = std::fs::File::create(state.join("lock")).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(std::fs::TryLockError::WouldBlock) => {
            let what = format!("the application could not be started on {}", state.display());
            Err(Problem::new(ProblemKind::Invalid, what, "it is running there already")
                .with_next("Use the one that runs, end it first, or choose another folder with --state."))
        }
        Err(std::fs::TryLockError::Error(error)) => Err(failed(error)),
    }
}

async fn wait_for_end() -> std::io::Result<()> {
    let mut terminate = signal(SignalKind::terminate())?;
    tokio::select! {
        outcome = tokio::signal::ctrl_c() => outcome,
        _ = terminate.recv() => Ok(()),
    }
}
