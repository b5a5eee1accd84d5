//! `yonder`: the service, its client, and the demo, in one program.

mod arguments;
mod checks;
mod client;
mod commands;
mod connection;
mod duration;
mod failure;
#[cfg(test)]
mod help_tests;
mod json_mode;
mod listeners;
mod logging;
mod output;
mod public;
mod secrets;
mod serve;
mod style;
mod watchdog;

use std::process::ExitCode;

use clap::Parser as _;

use arguments::{Arguments, Command};
use commands::platform::PlatformCommand;
use failure::Failure;

/// Frames are allocated by one thread and freed by another. The system's allocator keeps an arena per thread and
/// returns little of it: after an hour of faults it held three times the memory in use.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let done = run(arguments);
    if let Some(error) = output::write_error() {
        let failure = Failure::Output(error);
        failure.print();
        return failure.exit_code();
    }
    match done {
        Ok(code) => code,
        Err(failure) => {
            failure.print();
            failure.exit_code()
        }
    }
}

fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    let Arguments { connection, json, command } = arguments;
    if json {
        output::use_json();
    }
    match command {
        Command::Serve(arguments) => {
            let home = connection.home_folder();
            let (backups, listeners) = (arguments.backup_plan(&home), arguments.listeners());
            let public = arguments.public();
            serve::run(&home, (*arguments).into(), listeners, public, backups)?;
        }
        Command::Demo(demo) => return commands::demo::run(&demo, connection.given_home()),
        Command::StandIn(command) => commands::stand_in::run(&command)?,
        Command::Completions { shell } => arguments::print_completions(shell),
        Command::Man { out } => commands::man::run(&out)?,
        Command::Openapi => output::print_raw(&yonder_http::openapi()),
        Command::Feed(command) => commands::feed::run(command, &connection.client()?)?,
        Command::Pattern(command) => commands::pattern::run(command, &connection.client()?)?,
        Command::Platform(PlatformCommand::Rules) => commands::platform::rules(),
        Command::Platform(command) => commands::platform::run(command, &connection.client()?)?,
        Command::Uplink(command) => commands::uplink::run(command, &connection.client()?)?,
        Command::Signpost(command) => commands::signpost::run(command, &connection.client()?)?,
        Command::Budget(arguments) => commands::budget::run(arguments, &connection.client()?)?,
        Command::Destination(command) => commands::destination::run(command, &connection.client()?)?,
        Command::Relay(command) => commands::relay::run(command, &connection.client()?)?,
        Command::Backup(arguments) => commands::maintenance::backup(&arguments, &connection.client()?)?,
        Command::Restore(arguments) => commands::maintenance::restore(&arguments, &connection.home_folder())?,
        Command::Upgrade(arguments) => commands::maintenance::upgrade(&arguments, &connection.home_folder())?,
        Command::Audit(arguments) => commands::audit::run(&arguments, &connection.client()?)?,
        Command::MasterKey(command) => commands::master_key::run(&command, &connection)?,
        Command::Selfcheck => commands::maintenance::selfcheck(&connection.client()?)?,
        Command::Alert(command) => commands::alert::run(command, &connection.client()?)?,
        Command::Contact(command) => commands::contact::run(command, &connection.client()?)?,
        Command::Person(command) => commands::person::run(command, &connection.client()?)?,
        Command::Session(command) => commands::person::run_session(&command, &connection.client()?)?,
        Command::Job(command) => commands::job::run(command, &connection.client()?)?,
        Command::Token(command) => commands::token::run(command, &connection.client()?)?,
        Command::Book(command) => commands::book::run(command, || connection.client())?,
        Command::Logbook(arguments) => commands::record::logbook(&arguments, &connection.client()?)?,
        Command::Report(arguments) => commands::record::report(&arguments, &connection.client()?)?,
        Command::Status { follow } => commands::status::run(&connection.client()?, follow)?,
    }
    Ok(ExitCode::SUCCESS)
}
