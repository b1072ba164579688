//! The program that people start.

mod analyse;
mod arguments;
mod compare;
mod demo;
mod encode;
mod inspect;
mod manual;
mod plan;
mod presets;
mod prove;
mod serve;
mod server;
mod terminal;

use std::process::ExitCode;

use arguments::{Arguments, Task};
use beryl_core::problem::Problem;
use clap::Parser;
use server::Server;

#[tokio::main]
async fn main() -> ExitCode {
    match run(Arguments::parse().task).await {
        Ok(code) => code,
        Err(problem) => {
            terminal::report(&problem);
            ExitCode::from(1)
        }
    }
}

async fn run(task: Task) -> Result<ExitCode, Problem> {
    match task {
        Task::Inspect(task) => inspect::run(&task).await,
        Task::Analyse(task) => analyse::run(&task).await,
        Task::Compare(task) => compare::run(&task).await,
        Task::Presets(task) => presets::run(&task),
        Task::Plan(task) => plan::run(&task).await,
        Task::Encode(task) => encode::run(&task).await,
        Task::Prove(task) => prove::run(&task).await,
        Task::Serve(task) => serve::run(&task).await,
        Task::Describe => serve::describe(),
        Task::Completion { shell } => manual::complete(shell),
        Task::Manual { folder } => manual::write(&folder),
        Task::Sheet(on) => server::sheets::run(&Server::at(&on.at)?, &on.task).await,
        Task::Source(on) => server::sources::run(&Server::at(&on.at)?, &on.task).await,
        Task::Proof(on) => server::proofs::run(&Server::at(&on.at)?, &on.task).await,
        Task::Queue(on) => server::queue::run(&Server::at(&on.at)?, &on.task).await,
        Task::Watch(on) => server::watching::run(&Server::at(&on.at)?, &on.task).await,
        Task::Preset(on) => server::presets::run(&Server::at(&on.at)?, &on.task).await,
        Task::Asset(on) => server::assets::run(&Server::at(&on.at)?, &on.task).await,
        Task::Storage(on) => server::storages::run(&Server::at(&on.at)?, &on.task).await,
        Task::Upload(on) => server::uploads::run(&Server::at(&on.at)?, &on.task).await,
        Task::Settings(on) => server::settings::run(&Server::at(&on.at)?, &on.task).await,
    }
}
