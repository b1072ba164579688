//! The way to a server.

use std::path::{Path, PathBuf};

use beryl_core::problem::{Problem, ProblemKind};
use clap::Args;
use futures::StreamExt;
use reqwest::{Method, Response};
use serde::de::DeserializeOwned;
use serde_json::Value;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpStream, UnixStream};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;

use crate::terminal::json_line;

/// Which server, and how it is answered.
#[derive(Debug, Args)]
pub(crate) struct At {
    /// The server: its address, or the socket in its state folder.
    #[arg(long, global = true, env = "BERYL_SERVER", default_value = "127.0.0.1:8470", value_name = "ADDRESS")]
    server: String,
    /// Write JSON.
    #[arg(long, global = true)]
    json: bool,
}

/// A server that runs.
pub(crate) struct Server {
    http: reqwest::Client,
    way: Way,
    json: bool,
}

/// How it is reached.
enum Way {
    Address(String),
    Socket(PathBuf),
}

impl Server {
    pub(crate) fn at(at: &At) -> Result<Self, Problem> {
        let way = if at.server.contains('/') && !at.server.starts_with("http://") {
            Way::Socket(PathBuf::from(&at.server))
        } else {
            Way::Address(at.server.trim_start_matches("http://").trim_end_matches('/').to_owned())
        };
        let builder = reqwest::Client::builder().no_proxy();
        let builder = match &way {
            Way::Address(_) => builder,
            Way::Socket(path) => builder.unix_socket(path.as_path()),
        };
        let http = builder
            .build()
            .map_err(|error| Problem::new(ProblemKind::Internal, "the server could not be asked", error.to_string()))?;
        Ok(Self { http, way, json: at.json })
    }

    /// What stands for the server in a request: through a socket it is this machine.
    fn host(&self) -> &str {
        match &self.way {
            Way::Address(address) => address,
            Way::Socket(_) => "localhost",
        }
    }

    fn unreachable(&self, why: impl std::fmt::Display) -> Problem {
        let place = match &self.way {
            Way::Address(address) => address.clone(),
            Way::Socket(path) => path.display().to_string(),
        };
        Problem::new(ProblemKind::Missing, format!("no server answers at {place}"), why.to_string())
            .with_next("Start it with “beryl serve”, or name where it is with --server.")
    }

    /// A request of which the body, where there is one, is JSON.
    pub(crate) async fn ask(&self, method: Method, path: &str, body: Option<&Value>) -> Result<Value, Problem> {
        let mut request = self.request(method, path);
        if let Some(body) = body {
            request = request.json(body);
        }
        let response = self.send(request).await?;
        let text = response.text().await.map_err(|error| self.unreachable(error))?;
        if text.is_empty() {
            return Ok(Value::Null);
        }
        serde_json::from_str(&text).map_err(|error| strange(path, &error))
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("http://{}{path}", self.host()))
    }

    /// The answer, where it is none that refuses.
    pub(crate) async fn send(&self, request: reqwest::RequestBuilder) -> Result<Response, Problem> {
        let response = request.send().await.map_err(|error| self.unreachable(with_causes(&error)))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.unwrap_or_default();
        Err(serde_json::from_str(&text).unwrap_or_else(|_| {
            Problem::new(ProblemKind::Internal, "the server refused", format!("it answered {status} {text}"))
        }))
    }

    pub(crate) async fn get(&self, path: &str) -> Result<Value, Problem> {
        self.ask(Method::GET, path, None).await
    }

    pub(crate) async fn post(&self, path: &str, body: &Value) -> Result<Value, Problem> {
        self.ask(Method::POST, path, Some(body)).await
    }

    pub(crate) async fn put(&self, path: &str, body: &Value) -> Result<Value, Problem> {
        self.ask(Method::PUT, path, Some(body)).await
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<Value, Problem> {
        self.ask(Method::DELETE, path, None).await
    }

    /// An answer of this form.
    pub(crate) async fn read<T: DeserializeOwned>(&self, path: &str) -> Result<T, Problem> {
        serde_json::from_value(self.get(path).await?).map_err(|error| strange(path, &error))
    }

    /// Shows an answer: as it is, where JSON is wanted, otherwise in words.
    pub(crate) fn show<T: DeserializeOwned>(&self, answer: &Value, words: impl FnOnce(T)) -> Result<(), Problem> {
        if self.json {
            json_line(answer);
            return Ok(());
        }
        words(serde_json::from_value(answer.clone()).map_err(|error| strange("an answer", &error))?);
        Ok(())
    }

    /// Whether answers are shown as JSON.
    pub(crate) const fn wants_json(&self) -> bool {
        self.json
    }

    /// Writes what the server sends into a file that is not there yet.
    pub(crate) async fn fetch(&self, path: &str, into: &Path) -> Result<(), Problem> {
        let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be written", into.display()), &error);
        let response = self.send(self.request(Method::GET, path)).await?;
        let file = tokio::fs::File::create_new(into).await.map_err(failed)?;
        let written = self.write(response, file).await;
        if written.is_err() {
            // A part of it is of no use under its name. Where it cannot be removed, the problem says what it is.
            drop(tokio::fs::remove_file(into).await);
        }
        written.map_err(|error| match error {
            Broken::Way(problem) => problem,
            Broken::File(error) => failed(error),
        })
    }

    async fn write(&self, response: Response, mut file: tokio::fs::File) -> Result<(), Broken> {
        let mut pieces = response.bytes_stream();
        while let Some(piece) = pieces.next().await {
            let piece = piece.map_err(|error| Broken::Way(self.unreachable(error)))?;
            file.write_all(&piece).await.map_err(Broken::File)?;
        }
        file.sync_all().await.map_err(Broken::File)
    }

    /// Hears of everything that changes, until `heard` has heard enough.
    pub(crate) async fn follow(&self, after: u64, heard: impl FnMut(Value) -> bool) -> Result<(), Problem> {
        let address = format!("ws://{}/api/events?after={after}", self.host());
        match &self.way {
            Way::Address(place) => {
                let stream = TcpStream::connect(place).await.map_err(|error| self.unreachable(error))?;
                self.hear(tokio_tungstenite::client_async(address, stream).await, heard).await
            }
            Way::Socket(path) => {
                let stream = UnixStream::connect(path).await.map_err(|error| self.unreachable(error))?;
                self.hear(tokio_tungstenite::client_async(address, stream).await, heard).await
            }
        }
    }

    async fn hear<S, A>(
        &self,
        opened: Result<(WebSocketStream<S>, A), tokio_tungstenite::tungstenite::Error>,
        mut heard: impl FnMut(Value) -> bool,
    ) -> Result<(), Problem>
    where
        S: tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin,
    {
        let (mut stream, _) = opened.map_err(|error| self.unreachable(error))?;
        while let Some(message) = stream.next().await {
            match message.map_err(|error| self.unreachable(error))? {
                Message::Text(text) => {
                    let event = serde_json::from_str(&text).map_err(|error| strange("an event", &error))?;
                    if heard(event) {
                        return Ok(());
                    }
                }
                Message::Close(_) => break,
                Message::Binary(_) | Message::Ping(_) | Message::Pong(_) | Message::Frame(_) => {}
            }
        }
        Err(self.unreachable("it ended"))
    }
}

/// Why a file did not come whole.
enum Broken {
    Way(Problem),
    File(std::io::Error),
}

/// An error with what stands behind it, which the library leaves out of its words.
fn with_causes(error: &dyn std::error::Error) -> String {
    let mut words = error.to_string();
    let mut cause = error.source();
    while let Some(below) = cause {
        words.push_str(&format!(": {below}"));
        cause = below.source();
    }
    words
}

fn strange(what: &str, error: &serde_json::Error) -> Problem {
    Problem::new(ProblemKind::Internal, "the server was not understood", format!("{what} has another form: {error}"))
        .with_next("Use the command line of the same version as the server.")
}
