//! `beryl completion` and `beryl manual`: made from the same source as the help of each command.

use std::path::Path;
use std::process::ExitCode;

use beryl_core::problem::Problem;
use clap::CommandFactory;

use crate::arguments::Arguments;
use crate::terminal::say;

// The same form as the other commands, which can fail.
#[allow(clippy::unnecessary_wraps)]
pub(crate) fn complete(shell: clap_complete::Shell) -> Result<ExitCode, Problem> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "beryl", &mut script);
    say!("{}", String::from_utf8_lossy(&script).trim_end());
    Ok(ExitCode::SUCCESS)
}

/// One page for the program, and one for each command below it.
pub(crate) fn write(folder: &Path) -> Result<ExitCode, Problem> {
    let failed =
        |error: std::io::Error| Problem::from_io(format!("the manual could not be written into {}", folder.display()), &error);
    std::fs::create_dir_all(folder).map_err(failed)?;
    clap_mangen::generate_to(Arguments::command(), folder).map_err(failed)?;
    Ok(ExitCode::SUCCESS)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use std::collections::BTreeSet;
    use std::path::{Path, PathBuf};

    use clap::{Command, CommandFactory};
    use serde_json::Value;

    use super::Arguments;

    /// A row of the table of actions: what is done, where on the page, by which call, by which command.
    struct Action {
        calls: Vec<String>,
        commands: Vec<String>,
    }

    fn project() -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
    }

    /// What stands between backticks.
    fn quoted(cell: &str) -> Vec<String> {
        cell.split('`').skip(1).step_by(2).map(str::to_owned).collect()
    }

    fn actions() -> Vec<Action> {
        let text = std::fs::read_to_string(project().join("docs/actions.md")).unwrap();
        let rows = text.lines().filter(|line| line.starts_with("| ")).skip(2);
        let cells = rows.map(|row| row.trim_matches('|').split(" | ").map(|cell| cell.trim().to_owned()).collect::<Vec<_>>());
        let action = |cells: Vec<String>| {
            let [action, page, call, command] = <[String; 4]>::try_from(cells).unwrap();
            assert!(!action.is_empty() && !page.is_empty(), "an action without its words or its place on the page: {call}");
            let (calls, commands) = (quoted(&call), quoted(&command));
            assert!(!commands.is_empty(), "no command for: {action}");
            Action { calls, commands }
        };
        cells.map(action).collect()
    }

    /// All commands that do something, with those above them: “sheet new”.
    fn commands_of(command: &Command, above: &str, all: &mut BTreeSet<String>) {
        for own in command.get_subcommands().filter(|own| own.get_name() != "help") {
            let name = format!("{above} {}", own.get_name()).trim().to_owned();
            if own.has_subcommands() {
                commands_of(own, &name, all);
            } else {
                all.insert(name);
            }
        }
    }

    /// Where a call is made in the page, with each part that is filled in as `{}`.
    fn calls_of_the_page() -> BTreeSet<String> {
        let mut all = BTreeSet::new();
        let mut folders = vec![project().join("web/src")];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                } else if !path.to_string_lossy().contains(".gen.") && !path.to_string_lossy().contains(".test.") {
                    let text = std::fs::read_to_string(&path).unwrap();
                    all.extend(text.split("/api/").skip(1).map(|rest| plain(&format!("/api/{rest}"))));
                }
            }
        }
        all
    }

    /// Whether a path of the page, of which any part may be filled in, is that of a call.
    fn is_call(made: &str, path: &str) -> bool {
        let (made, path): (Vec<&str>, Vec<&str>) = (made.split('/').collect(), path.split('/').collect());
        let fits =
            |(made, own): (&&str, &&str)| made == own || made.split_once("{}").is_some_and(|(before, _)| own.starts_with(before));
        made.len() == path.len() && made.iter().zip(&path).all(fits)
    }

    /// A path with what is filled in as `{}`, up to where it ends.
    fn plain(path: &str) -> String {
        let mut plain = String::new();
        let mut depth = 0;
        for letter in path.chars() {
            match letter {
                '{' => {
                    depth += 1;
                    plain.push_str(if depth == 1 { "{}" } else { "" });
                }
                '}' => depth -= 1,
                '$' => {}
                _ if depth > 0 => {}
                '/' | '-' | '.' | '_' | 'a'..='z' => plain.push(letter),
                _ => break,
            }
        }
        plain.trim_end_matches(['/', '.']).to_owned()
    }

    #[test]
    fn every_action_is_there_on_the_page_in_the_api_and_on_the_command_line() {
        let actions = actions();
        let described: Value = serde_json::from_str(&beryl_server::describe()).unwrap();
        let methods = ["get", "post", "put", "patch", "delete", "head"];
        let mut calls = BTreeSet::new();
        for (path, own) in described["paths"].as_object().unwrap() {
            calls.extend(
                methods
                    .iter()
                    .filter(|method| own[**method].is_object())
                    .map(|method| format!("{} {path}", method.to_uppercase())),
            );
        }
        let listed: BTreeSet<String> = actions.iter().flat_map(|action| action.calls.clone()).collect();
        assert_eq!(calls.difference(&listed).collect::<Vec<_>>(), Vec::<&String>::new(), "calls without an action");
        assert_eq!(listed.difference(&calls).collect::<Vec<_>>(), Vec::<&String>::new(), "actions with calls that are not there");

        let mut commands = BTreeSet::new();
        commands_of(&Arguments::command(), "", &mut commands);
        let listed: BTreeSet<String> = actions.iter().flat_map(|action| action.commands.clone()).collect();
        assert_eq!(commands.difference(&listed).collect::<Vec<_>>(), Vec::<&String>::new(), "commands without an action");
        assert_eq!(
            listed.difference(&commands).collect::<Vec<_>>(),
            Vec::<&String>::new(),
            "actions with commands that are not there"
        );

        let of_page = calls_of_the_page();
        // Where a copy for viewing lies, the server says; the page has no address of its own for it.
        let own: Vec<String> = calls.iter().map(|call| plain(call.split_once(' ').unwrap().1)).collect();
        let own = own.iter().filter(|path| !path.ends_with("/viewing-copy"));
        let missing: Vec<&String> = own.filter(|path| !of_page.iter().any(|made| is_call(made, path))).collect();
        assert_eq!(missing, Vec::<&String>::new(), "calls that the page does not make");
    }
}
