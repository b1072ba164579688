//! `beryl upload`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use beryl_core::problem::{Problem, ProblemKind};
use clap::Subcommand;
use reqwest::{Method, Response};
use serde_json::Value;
use tokio::io::{AsyncReadExt, AsyncSeekExt};

use super::client::Server;
use crate::terminal::say;

/// Files of this machine that come into a storage of the server.
#[derive(Debug, Subcommand)]
pub(crate) enum UploadTask {
    /// Send files into a folder of a storage.
    Send {
        /// The files.
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// “Storage:folder”.
        #[arg(long, value_name = "PLACE")]
        to: String,
    },
    /// Go on with an upload that was broken off.
    Resume {
        /// Its id.
        upload: String,
        /// The file.
        file: PathBuf,
    },
    /// Show what has become of an upload.
    Show {
        /// Its id.
        upload: String,
    },
    /// Give up an upload that has not come whole; what came of it goes.
    End {
        /// Its id.
        upload: String,
    },
}

/// Bytes of a piece.
const PIECE: usize = 8 << 20;

pub(crate) async fn run(server: &Server, task: &UploadTask) -> Result<ExitCode, Problem> {
    match task {
        UploadTask::Send { files, to } => {
            for file in files {
                send(server, file, to).await?;
            }
        }
        UploadTask::Resume { upload, file } => go_on(server, upload, file).await?,
        UploadTask::Show { upload } => {
            server.show(&server.get(&format!("/api/uploads/{upload}")).await?, |state: Value| {
                say!("{} of {} bytes", state["offset"], state["length"]);
                state["path"].as_str().into_iter().for_each(|path| say!("{path}"));
            })?;
        }
        UploadTask::End { upload } => {
            server.delete(&format!("/api/uploads/{upload}")).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn unreadable(file: &Path) -> impl Fn(std::io::Error) -> Problem {
    let what = format!("{} could not be sent", file.display());
    move |error| Problem::from_io(what.clone(), &error)
}

async fn send(server: &Server, file: &Path, to: &str) -> Result<(), Problem> {
    let (storage, folder) = server.place(to).await?;
    let length = tokio::fs::metadata(file).await.map_err(unreadable(file))?.len();
    let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let folder = folder.to_string();
    let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
    let metadata = format!("storage {},path {}", STANDARD.encode(&storage.id), STANDARD.encode(path));
    let request =
        server.request(Method::POST, "/api/uploads").header("upload-length", length).header("upload-metadata", metadata);
    let announced = server.send(request).await?;
    let id = announced.headers().get("location").and_then(|place| place.to_str().ok()?.rsplit('/').next()).map(str::to_owned);
    let Some(id) = id else {
        return Err(Problem::new(
            ProblemKind::Internal,
            format!("{} could not be sent", file.display()),
            "the server does not say where to",
        ));
    };
    go_on(server, &id, file).await
}

/// Sends what has not come yet. Where that is broken off, it says how to go on.
async fn go_on(server: &Server, id: &str, file: &Path) -> Result<(), Problem> {
    let place = format!("/api/uploads/{id}");
    let sending = async {
        let mut offset = offset_of(&server.send(server.request(Method::HEAD, &place)).await?)?;
        let mut input = tokio::fs::File::open(file).await.map_err(unreadable(file))?;
        input.seek(std::io::SeekFrom::Start(offset)).await.map_err(unreadable(file))?;
        loop {
            let mut piece = Vec::with_capacity(PIECE);
            (&mut input).take(PIECE as u64).read_to_end(&mut piece).await.map_err(unreadable(file))?;
            if piece.is_empty() {
                return Ok(());
            }
            let request = server.request(Method::PATCH, &place).header("upload-offset", offset);
            let request = request.header("content-type", "application/offset+octet-stream").body(piece);
            offset = offset_of(&server.send(request).await?)?;
        }
    };
    sending.await.map_err(|problem: Problem| {
        let next = format!("“beryl upload resume {id} {}” goes on where it was.", file.display());
        problem.with_next(next)
    })?;
    let state = server.get(&place).await?;
    server.show(&state, |state: Value| say!("{} is there as {}", file.display(), state["path"].as_str().unwrap_or_default()))
}

fn offset_of(answer: &Response) -> Result<u64, Problem> {
    let offset = answer.headers().get("upload-offset").and_then(|offset| offset.to_str().ok()?.parse().ok());
    offset.ok_or_else(|| {
        Problem::new(ProblemKind::Internal, "the file could not be sent", "the server does not say how much has come")
    })
}
