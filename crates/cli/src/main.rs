//! `puente`: the command line. One file per command; each calls an operation that the service shares.

mod commands;
mod exit;
mod output;
mod remote;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};

use exit::Failure;

/// A safe GraphQL API in front of a database, without code.
#[derive(Debug, Parser)]
#[command(name = "puente", version, arg_required_else_help = true, after_help = AFTER_HELP)]
struct Arguments {
    /// The project folder.
    #[arg(long, global = true, value_name = "DIR", env = "PUENTE_PROJECT", default_value = ".")]
    project: PathBuf,
    #[command(subcommand)]
    command: Command,
}

const AFTER_HELP: &str = "\
Exit codes: 0 fine, 1 the work found something wrong, 2 the call or the project file is wrong, 3 a source is unreachable.

Example:
  puente init --source main=sqlite:huts.db && puente serve --development";

#[derive(Debug, Subcommand)]
enum Command {
    Demo(commands::demo::Demo),
    Init(commands::init::Init),
    Survey(commands::survey::Survey),
    Check(commands::check::Check),
    Schema(commands::schema::Schema),
    Serve(commands::serve::Serve),
    Ask(commands::ask::Ask),
    Access(commands::access::Access),
    Key(commands::key::Key),
    Token(commands::token::Token),
    Completions(commands::completions::Completions),
    Manual(commands::manual::Manual),
}

fn main() -> ExitCode {
    puente_allocator::give_back_soon();
    let Arguments { project, command } = Arguments::parse();
    let result = match command {
        Command::Demo(demo) => demo.run(),
        Command::Init(init) => init.run(&project),
        Command::Survey(survey) => survey.run(&project),
        Command::Check(check) => check.run(&project),
        Command::Schema(schema) => schema.run(&project),
        Command::Serve(serve) => serve.run(&project),
        Command::Ask(ask) => ask.run(&project),
        Command::Access(access) => access.run(&project),
        Command::Key(key) => key.run(&project),
        Command::Token(token) => token.run(&project),
        Command::Completions(completions) => completions.run(),
        Command::Manual(manual) => manual.run(),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failure { code, text }) => {
            if !text.is_empty() {
                output::complain(&text);
            }
            ExitCode::from(code)
        }
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    #[test]
    fn every_command_and_option_is_explained_and_every_command_has_an_example() {
        let mut command = Arguments::command();
        command.build();
        for sub in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
            assert!(sub.get_about().is_some(), "{} says what it does", sub.get_name());
            let help = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
            assert!(help.contains("Example"), "{} has an example", sub.get_name());
            for argument in sub.get_arguments() {
                assert!(argument.get_help().is_some(), "{} {} is explained", sub.get_name(), argument.get_id());
            }
        }
    }
}
