//! The application on a free port, with a state folder of its own.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use beryl_core::storage::MARKER;
use beryl_demo::{Clip, clips, make};
use beryl_server::{Config, Server};
use beryl_store::private_server::PrivateServer;
use serde_json::{Value, json};

use crate::Outcome;

/// How long an answer is waited for.
const PATIENCE: Duration = Duration::from_secs(90);

/// The name of the installation under test.
const INSTALLATION: &str = "test";

/// A running application; dropping it ends its database.
pub struct Application {
    address: String,
    client: reqwest::Client,
    // Dropped in this order: the server before its database, the folder last.
    server: Server,
    database: PrivateServer,
    folder: tempfile::TempDir,
}

async fn serve(folder: &Path, database: &PrivateServer, installation: &str) -> Outcome<Server> {
    let config = Config {
        listen: ([127, 0, 0, 1], 0).into(),
        state: folder.to_owned(),
        database: database.url(),
        installation: installation.to_owned(),
    };
    Ok(Server::start(config).await?)
}

impl Application {
    /// Starts it, empty.
    ///
    /// # Errors
    /// Where MariaDB or the engine is missing.
    pub async fn start() -> Outcome<Self> {
        let folder = tempfile::tempdir()?;
        let database = PrivateServer::start(&folder.path().join("database"))?;
        let server = serve(folder.path(), &database, INSTALLATION).await?;
        let address = format!("http://{}", server.address());
        Ok(Self { address, client: reqwest::Client::new(), server, database, folder })
    }

    /// Ends the server and starts it anew on the same database and folders.
    ///
    /// # Errors
    /// Where it does not start.
    pub async fn restart(self) -> Outcome<Self> {
        let Self { client, server, database, folder, .. } = self;
        server.stop().await;
        let server = serve(folder.path(), &database, INSTALLATION).await?;
        let address = format!("http://{}", server.address());
        Ok(Self { address, client, server, database, folder })
    }

    /// Starts another server on the same database, with a state folder of its own.
    ///
    /// # Errors
    /// Where it does not start.
    pub async fn second_server(&self) -> Outcome<Server> {
        serve(&self.folder("second")?, &self.database, "second").await
    }

    /// Where its page is.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// A folder below its state, made where it is missing.
    ///
    /// # Errors
    /// Where it cannot be made.
    pub fn folder(&self, name: &str) -> Outcome<PathBuf> {
        let folder = self.folder.path().join(name);
        std::fs::create_dir_all(&folder)?;
        Ok(folder)
    }

    /// Calls the API.
    ///
    /// # Errors
    /// Where it refuses.
    pub async fn call(&self, method: reqwest::Method, path: &str, body: Option<Value>) -> Outcome<Value> {
        let mut request = self.client.request(method, format!("{}{path}", self.address));
        if let Some(body) = body {
            request = request.json(&body);
        }
        let response = request.send().await?;
        let status = response.status();
        let text = response.text().await?;
        if !status.is_success() {
            return Err(format!("{path}: {status}: {text}").into());
        }
        Ok(serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    /// Asks the API until its answer is as wanted, for a minute and a half at most.
    ///
    /// # Errors
    /// Where it refuses, or the answer is another one all the time; the last one is told.
    pub async fn wait_for(&self, path: &str, wanted: impl Fn(&Value) -> bool) -> Outcome<Value> {
        let began = Instant::now();
        loop {
            let answer = self.call(reqwest::Method::GET, path, None).await?;
            if wanted(&answer) {
                return Ok(answer);
            }
            if began.elapsed() > PATIENCE {
                return Err(format!("{path} did not become what is wanted: {answer}").into());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// The sheet once nothing in it changes by itself any more: all sources are scanned as a whole.
    ///
    /// # Errors
    /// As for [`Self::wait_for`].
    pub async fn settled_sheet(&self, id: &str) -> Outcome<Value> {
        let is_known = |source: &Value| source["scan"] == "whole" || source["scan"] == "failed";
        let all_known = |sheet: &Value| sheet["sources"].as_array().is_some_and(|sources| sources.iter().all(is_known));
        self.wait_for(&format!("/api/sheets/{id}"), all_known).await
    }

    /// Adds a folder as a storage.
    ///
    /// # Errors
    /// Where the API refuses.
    pub async fn add_storage(&self, name: &str, folder: &Path) -> Outcome<String> {
        let made = self.call(reqwest::Method::POST, "/api/storages", Some(json!({ "name": name, "root": folder }))).await?;
        Ok(made["id"].as_str().unwrap_or_default().to_owned())
    }
}

/// The names in a folder in their order, hidden ones too, but for the marker of a storage.
///
/// # Errors
/// The folder cannot be read.
pub fn names_in(folder: &Path) -> Outcome<Vec<String>> {
    let names = std::fs::read_dir(folder)?.map(|entry| Ok(entry?.file_name().to_string_lossy().into_owned()));
    let mut names: Vec<String> = names.collect::<std::io::Result<_>>()?;
    names.retain(|name| name != MARKER);
    names.sort();
    Ok(names)
}

/// Makes the demo clips with these names, cut to `seconds`, in `folder`.
///
/// # Errors
/// Where one cannot be made or there is none of the name.
pub fn make_clips(folder: &Path, names: &[&str], seconds: i64) -> Outcome<()> {
    for name in names {
        let clip = clips().into_iter().find(|clip| clip.path.ends_with(name)).ok_or_else(|| format!("no clip {name}"))?;
        make(&Clip { seconds, path: clip.path, ..clip }, folder)?;
    }
    Ok(())
}
