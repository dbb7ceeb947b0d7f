//! The help of `mizuno` itself: its commands in the order of the work.

use clap::Command;
use std::fmt::Write;

/// The commands by the step of the work they belong to.
const GROUPS: [(&str, &[&str]); 6] = [
    ("Set up", &["demo", "serve", "check", "try", "reload", "history", "openapi"]),
    ("Collect", &["collect", "schedule", "lists", "runs", "watch", "cancel", "resume"]),
    ("Look each morning", &["status", "coverage", "gaps", "fetches", "quarantine"]),
    ("Repair", &["repair", "excuse", "excuses", "decide", "settle"]),
    ("Trust or doubt", &["findings", "compare", "lineage", "restatements", "audit", "checks"]),
    ("Take bars", &["instruments", "series", "lineup", "actions", "universe", "chain", "bars", "picture", "questions", "editions"]),
];
/// Columns that a command's name takes.
const NAME: usize = 14;
/// The widest that help is written.
const WIDEST: usize = 100;

/// The command line with its commands in groups.
pub fn grouped(command: Command) -> Command {
    let told = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let width = crate::show::width().or(told).unwrap_or(WIDEST).clamp(40, WIDEST);
    let mut text = String::new();
    for (title, names) in GROUPS {
        let _ = writeln!(text, "{title}:");
        for name in names {
            let about = command.find_subcommand(name).and_then(|c| c.get_about()).map(ToString::to_string).unwrap_or_default();
            for (at, line) in textwrap::wrap(&about, width - NAME - 2).iter().enumerate() {
                let _ = writeln!(text, "  {:<NAME$}{line}", if at == 0 { name } else { "" });
            }
        }
        text.push('\n');
    }
    command.override_usage("mizuno [OPTIONS] <COMMAND>").help_template(format!(
        "{{about}}\n\n{{usage-heading}} {{usage}}\n\n{text}Help for one command: mizuno help COMMAND\n\nOptions:\n{{options}}{{after-help}}"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;
    use std::collections::BTreeSet;

    #[test]
    fn every_command_stands_in_one_group() {
        let all: BTreeSet<String> = crate::Cli::command().get_subcommands().map(|c| c.get_name().to_owned()).collect();
        let listed: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        assert_eq!(listed.len(), listed.iter().collect::<BTreeSet<_>>().len(), "none stands twice");
        assert_eq!(listed.iter().map(|n| (*n).to_owned()).collect::<BTreeSet<_>>(), all);
    }
}
