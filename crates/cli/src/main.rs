//! The program that people start.

mod arguments;
mod compare;
mod demo;
mod encode;
mod plan;
mod presets;
mod probe;
mod scan;
mod serve;
mod terminal;

use std::process::ExitCode;

use arguments::{Arguments, Task};
use clap::Parser;

#[tokio::main]
async fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let outcome = match arguments.task {
        Task::Probe(task) => probe::run(&task).await,
        Task::Scan(task) => scan::run(&task).await,
        Task::Compare(task) => compare::run(&task).await,
        Task::Presets(task) => presets::run(&task),
        Task::Plan(task) => plan::run(&task).await,
        Task::Encode(task) => encode::run(&task).await,
        Task::Serve(task) => serve::run(&task).await,
        Task::Describe => serve::describe(),
    };
    match outcome {
        Ok(code) => code,
        Err(problem) => {
            terminal::report(&problem);
            ExitCode::from(1)
        }
    }
}
