//! `mizuno`: the service and its client in one program.
//!
//! Results go to standard output, progress and notices to standard error.
//! Exit codes stand in [`exit`].

#[macro_use]
mod show;
mod client;
mod commands;
mod demo;
mod exit;
mod help;
mod progress;
mod serve;

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand};
use std::{io::IsTerminal, path::PathBuf, process::ExitCode};

/// Blocks come and go by the megabyte; the system's allocator gives each back to the kernel and asks for it again.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Collects price bars on a schedule, knows what is missing and why, and serves files that can be made again.
#[derive(Parser)]
#[command(name = "mizuno", version, max_term_width = 100, after_help = exit::HELP)]
struct Cli {
    #[command(flatten)]
    common: Common,
    #[command(subcommand)]
    command: Command,
}

/// The heading of the options that every command has.
const EVERYWHERE: &str = "Options of every command";

/// What every client command takes.
#[derive(Args, Clone)]
struct Common {
    /// Address of the service.
    #[arg(long, global = true, env = "MIZUNO_SERVICE", default_value = "http://127.0.0.1:7400", value_name = "URL", help_heading = EVERYWHERE)]
    service: String,
    /// Print JSON for programs instead of tables for people; errors too.
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    json: bool,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service.
    #[command(after_help = "Example: mizuno serve --config /etc/mizuno --data /var/lib/mizuno")]
    Serve(serve::Serve),
    /// Run the service with a simulated market and demo data.
    #[command(after_help = "Example: mizuno demo --speed 60")]
    Demo(demo::Demo),
    /// Check a configuration directory and say what is wrong, by file and line.
    #[command(after_help = "Example: mizuno check /etc/mizuno")]
    Check {
        /// The configuration directory.
        config: PathBuf,
    },
    /// Show how everything stands: late, failed, missing, not believed.
    #[command(after_help = "Example: mizuno status\nExit code 3 says that something needs a person.")]
    Status,
    /// Search what can be traded.
    #[command(after_help = "Example: mizuno instruments lanternfish")]
    Instruments {
        /// Words that must all occur in symbol, name, former symbol, kind or venue.
        words: Vec<String>,
    },
    /// List the series kept, with how complete each is.
    #[command(after_help = "Example: mizuno series --instrument KBF")]
    Series {
        /// Only this instrument's.
        #[arg(long, short)]
        instrument: Option<String>,
        /// Only this interval.
        #[arg(long)]
        interval: Option<String>,
    },
    /// Write bars: of one instrument or many, golden or of one source, long or wide.
    #[command(
        after_help = "Examples:\n  mizuno bars KBF --from 2025-04-01\n  mizuno bars KBF/1d/harbour --from 2025-04-01\n  mizuno bars KBF --interval 1m --from 2025-04-09 --zone Pacific/Auckland\n  mizuno bars KBF --source harbour --interval 1m -o kbf.csv\n  mizuno bars KBF/1d/harbour -o kbf.parquet\n  mizuno bars KBF OXB TRN --layout wide --columns date,close --last 20\n  mizuno bars KBF --interval 1w --adjust all --last 60\n  mizuno bars 'AL*' --this month --explain"
    )]
    Bars(Box<commands::bars::Bars>),
    /// Draw bars into a file: one series as candles, several as lines on a common base.
    #[command(
        after_help = "Examples:\n  mizuno picture KBF -o kbf.png\n  mizuno picture KBF --adjust all --last 250 -o kbf.svg\n  mizuno picture KBF OXB QHC --last 250 --dark -o three.png\n  mizuno picture KBF/1m/golden --last 20 -o minutes.png"
    )]
    Picture(Box<commands::picture::PictureOf>),
    /// Show the corporate actions of an instrument and what each does to its prices; enter or withdraw one.
    #[command(
        after_help = "Examples:\n  mizuno actions KBF\n  mizuno actions --import actions.csv --by mere --reason letter\n  mizuno actions --withdraw 1 --by mere --reason 'entered twice'"
    )]
    Actions(commands::actions::Which),
    /// List the continuous series of futures, or show one: its contracts, and its rolls with both closes.
    #[command(
        after_help = "Examples:\n  mizuno chain\n  mizuno chain bly-front\n  mizuno bars bly-front --rolls ratio --columns date,close,contract"
    )]
    Chain(commands::chain::Which),
    /// List the universes, or show one: who belonged when, who joined and left, and what is in doubt.
    #[command(
        after_help = "Examples:\n  mizuno universe\n  mizuno universe aldermere-12\n  mizuno universe aldermere-12 --on 2024-06-28\n  mizuno bars --universe aldermere-12 --layout wide --columns date,close"
    )]
    Universe(commands::universe::Which),
    /// Show what changed when in the configuration, or a file as it stood.
    #[command(after_help = "Examples:\n  mizuno history\n  mizuno history 1\n  mizuno history 1 ranking.toml")]
    History(commands::history::History),
    /// List the questions saved under a name, show one with its history, save or remove one.
    #[command(
        after_help = "Examples:\n  mizuno questions\n  mizuno questions closes --save closes.toml --by mere\n  mizuno questions closes\n  mizuno bars --saved closes --last 5"
    )]
    Questions(commands::questions::Questions),
    /// List the editions, or show one: sets of files that never change. Make, verify, compare, copy or withdraw one.
    #[command(
        after_help = "Examples:\n  mizuno editions\n  mizuno editions monthly --make --by mere\n  mizuno editions monthly/latest\n  mizuno editions monthly/latest --verify --again\n  mizuno editions monthly/2 --diff 1\n  mizuno editions monthly/latest --copy ./monthly\nExit code 3 says that an edition is not as it was made, or that two differ."
    )]
    Editions(Box<commands::editions::Editions>),
    /// Show held against expected, session by session or month by month.
    #[command(after_help = "Example: mizuno coverage 1m")]
    Coverage(commands::coverage::Coverage),
    /// List what is missing, with the cause of each gap. Gaps that many series share are shown as one.
    #[command(after_help = "Examples:\n  mizuno gaps\n  mizuno gaps --cause left-out --interval 1m\n  mizuno gaps --golden")]
    Gaps(commands::gaps::ListGaps),
    /// Fetch gaps again.
    #[command(after_help = "Examples:\n  mizuno repair QHC/1m/harbour@2025-04-02T00:30:00Z\n  mizuno repair --all")]
    Repair(commands::gaps::RepairGaps),
    /// Accept an absence or a finding, with a name and a reason.
    #[command(after_help = "Example: mizuno excuse CRK/1d/harbour@2025-04-03 --by mere --note 'a misprint'")]
    Excuse(commands::excuses::Excuse),
    /// List what was accepted so far, or take one back.
    #[command(after_help = "Examples:\n  mizuno excuses\n  mizuno excuses --revoke 3")]
    Excuses {
        /// Take this one back; its slots are missing, or its bars doubted, again.
        #[arg(long, value_name = "ID")]
        revoke: Option<i64>,
    },
    /// Collect now, and watch it.
    #[command(
        after_help = "Examples:\n  mizuno collect aldx-daily\n  mizuno collect aldx-minutes --instrument KBF --from 2025-04-07 --again"
    )]
    Collect(commands::runs::Collect),
    /// List the runs, or show one.
    #[command(after_help = "Examples:\n  mizuno runs\n  mizuno runs 12")]
    Runs(commands::runs::Runs),
    /// Continue a run that was stopped, or ask again for the windows that failed in it.
    #[command(after_help = "Examples:\n  mizuno resume 12\n  mizuno resume 12 --failed")]
    Resume(commands::runs::ResumeRun),
    /// Try a source on one instrument: what is asked, understood and refused. Nothing is kept.
    #[command(
        after_help = "Examples:\n  mizuno try harbour KBF --interval 1m\n  mizuno try ./sources/new.toml KBF   (a profile that is not at work yet)"
    )]
    Try(commands::sources::TryIt),
    /// Show the lists that sources keep, collect one now, or show what they changed.
    #[command(after_help = "Examples:\n  mizuno lists\n  mizuno lists packhorse/contracts\n  mizuno lists --changes")]
    Lists(commands::sources::Lists),
    /// Show every collector's schedule in words, with its next times on the venue's clock.
    #[command(after_help = "Example: mizuno schedule")]
    Schedule,
    /// Use the changed configuration without a restart. A broken one is refused, and the old one stays.
    #[command(after_help = "Example: mizuno reload")]
    Reload,
    /// Stop a run. What it has begun is finished and kept.
    #[command(after_help = "Example: mizuno cancel 12")]
    Cancel {
        /// Number of the run.
        run: i64,
    },
    /// List the fetches, or show one with the first lines of its answer.
    #[command(after_help = "Examples:\n  mizuno fetches --failed\n  mizuno fetches 31\n  mizuno fetches 31 --payload > answer.txt")]
    Fetches(commands::fetches::Fetches),
    /// Compare two series, or one as of two dates, and find systematic differences.
    #[command(
        after_help = "Examples:\n  mizuno compare KBF/1m/harbour KBF/1m/lodestar --from 2025-04-07\n  mizuno compare KBF/1d/lodestar --there-as-of 2025-04-10T06:00:00Z\nExit code 3 says that they differ."
    )]
    Compare(commands::trust::Compare),
    /// Trace a bar to its versions, their fetches, and the lines they stand on.
    #[command(after_help = "Example: mizuno lineage KBF/1d/harbour@2025-04-09")]
    Lineage {
        /// The bar, as SERIES@MOMENT.
        bar: String,
    },
    /// List bars that a source changed after we held them.
    #[command(after_help = "Example: mizuno restatements --source lodestar --days 30")]
    Restatements(commands::trust::Restatements),
    /// List what the checks noticed about bars, with what other sources say.
    #[command(
        after_help = "Examples:\n  mizuno findings\n  mizuno findings --check spike --source lodestar\nExit code 3 says that there are some."
    )]
    Findings(commands::findings::Findings),
    /// List the checks, or measure them on made-up series with known faults.
    #[command(after_help = "Examples:\n  mizuno checks\n  mizuno checks --measure --specimens 200")]
    Checks(commands::findings::Checks),
    /// Show which sources make an instrument's golden series, how they rank, and who is left out and why.
    #[command(after_help = "Example: mizuno lineup SME")]
    Lineup(commands::findings::WhoseLineup),
    /// Ask a source again for a random sample of what is held, and say what it has changed.
    #[command(after_help = "Example: mizuno audit aldx-daily --windows 20")]
    Audit(commands::runs::AuditIt),
    /// Take or refuse a bar that is held back because its source changed it too much.
    #[command(after_help = "Example: mizuno decide 17 --take --by mere")]
    Decide(commands::findings::Decision),
    /// Let readers see a series as it is now, when its past cannot all be collected again after its source changed its basis.
    #[command(after_help = "Example: mizuno settle KBF/1d/lodestar --by mere")]
    Settle(commands::findings::SettleIt),
    /// List rows that came and cannot be true, or that wait for a decision.
    #[command(after_help = "Example: mizuno quarantine")]
    Quarantine,
    /// Follow what happens, until Ctrl-C.
    #[command(after_help = "Example: mizuno watch --json | grep failed")]
    Watch,
    /// Print the OpenAPI document of the network interface.
    #[command(after_help = "Example: mizuno openapi > mizuno.json")]
    Openapi,
}

// One thread for what waits: requests have threads of their own, and so has the database. Between several, every
// small step would wake another.
#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    let matches = help::grouped(Cli::command()).get_matches();
    let Cli { common, command } = Cli::from_arg_matches(&matches).unwrap_or_else(|e| e.exit());
    let serving = matches!(command, Command::Serve(_) | Command::Demo(_));
    let filter = tracing_subscriber::EnvFilter::try_from_env("MIZUNO_LOG")
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new(if serving { "info,actix_server=warn,actix_http=off" } else { "warn" }));
    tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .init();
    let json = common.json;
    match run(common, command).await {
        Ok(code) => code.into(),
        Err(failure) => {
            match json {
                true => eprintln!("{}", failure.as_json()),
                false => note!("mizuno: {failure}"),
            }
            failure.code().into()
        }
    }
}

async fn run(common: Common, command: Command) -> Result<exit::Code, exit::Failure> {
    let client = || client::Client::new(&common);
    match command {
        Command::Serve(options) => serve::serve(options).await,
        Command::Demo(options) => demo::demo(options).await,
        Command::Check { config } => serve::check(&config),
        Command::Status => commands::status::status(&client()?).await,
        Command::Instruments { words } => commands::instruments::instruments(&client()?, &words).await,
        Command::Series { instrument, interval } => commands::instruments::series(&client()?, instrument, interval).await,
        Command::Bars(ask) => commands::bars::bars(&client()?, *ask).await,
        Command::Picture(ask) => commands::picture::picture(&client()?, *ask).await,
        Command::History(ask) => commands::history::history(&client()?, ask).await,
        Command::Chain(ask) => commands::chain::chain(&client()?, ask).await,
        Command::Universe(ask) => commands::universe::universe(&client()?, ask).await,
        Command::Actions(ask) => commands::actions::actions(&client()?, ask).await,
        Command::Questions(ask) => commands::questions::questions(&client()?, ask).await,
        Command::Editions(ask) => commands::editions::editions(&client()?, *ask).await,
        Command::Coverage(ask) => commands::coverage::coverage(&client()?, ask).await,
        Command::Gaps(ask) => commands::gaps::gaps(&client()?, ask).await,
        Command::Repair(ask) => commands::gaps::repair(&client()?, ask).await,
        Command::Excuse(ask) => commands::excuses::excuse(&client()?, ask).await,
        Command::Excuses { revoke } => commands::excuses::excuses(&client()?, revoke).await,
        Command::Collect(ask) => commands::runs::collect(&client()?, ask).await,
        Command::Runs(ask) => commands::runs::runs(&client()?, ask).await,
        Command::Resume(ask) => commands::runs::resume(&client()?, ask).await,
        Command::Try(ask) => commands::sources::try_it(&client()?, ask).await,
        Command::Lists(ask) => commands::sources::lists(&client()?, ask).await,
        Command::Schedule => commands::sources::schedule(&client()?).await,
        Command::Reload => commands::sources::reload(&client()?).await,
        Command::Cancel { run } => commands::runs::cancel(&client()?, run).await,
        Command::Fetches(ask) => commands::fetches::fetches(&client()?, ask).await,
        Command::Compare(ask) => commands::trust::compare(&client()?, ask).await,
        Command::Lineage { bar } => commands::trust::lineage(&client()?, &bar).await,
        Command::Restatements(ask) => commands::trust::restatements(&client()?, ask).await,
        Command::Findings(ask) => commands::findings::findings(&client()?, ask).await,
        Command::Checks(ask) => commands::findings::checks(&client()?, ask).await,
        Command::Lineup(ask) => commands::findings::lineup(&client()?, ask).await,
        Command::Audit(ask) => commands::runs::audit(&client()?, ask).await,
        Command::Decide(ask) => commands::findings::decide(&client()?, ask).await,
        Command::Settle(ask) => commands::findings::settle(&client()?, ask).await,
        Command::Quarantine => commands::fetches::quarantine(&client()?).await,
        Command::Watch => commands::watch::watch(&client()?).await,
        Command::Openapi => {
            out!("{}", mizuno_service::openapi());
            Ok(exit::Code::Fine)
        }
    }
}
