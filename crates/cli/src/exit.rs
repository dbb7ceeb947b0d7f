//! Exit codes that scripts can use.

use mizuno_api::{Problem, words::escaped};
use std::{fmt, process::ExitCode};

pub const HELP: &str = "Exit codes: 0 all well; 1 refused or failed; 2 wrong usage; 3 done, but something needs a person \
(a run with failed windows, a status that is not all clear); 4 no service at that address; 130 stopped by Ctrl-C.";

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Code {
    Fine,
    NeedsAPerson,
    Interrupted,
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> ExitCode {
        ExitCode::from(match code {
            Code::Fine => 0,
            Code::NeedsAPerson => 3,
            Code::Interrupted => 130,
        })
    }
}

/// Why a command could not be carried out.
#[derive(Debug)]
pub struct Failure {
    message: String,
    code: u8,
}

impl Failure {
    pub fn new(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 1 }
    }

    /// What the service refused, with where to look as a command.
    pub fn refused(problem: Problem) -> Failure {
        let command = problem.see.as_deref().and_then(|path| path.strip_prefix("/api/v1/")).map(|topic| topic.replace('/', " "));
        let message = match command {
            Some(command) => format!("{}; see: mizuno {command}", escaped(&problem.detail)),
            None => escaped(&problem.detail),
        };
        Failure { message, code: 1 }
    }

    pub fn usage(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 2 }
    }

    pub fn interrupted(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 130 }
    }

    pub fn unreachable(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 4 }
    }

    /// The same for programs.
    pub fn as_json(&self) -> String {
        serde_json::json!({ "error": self.message, "exit_code": self.code }).to_string()
    }

    pub fn code(&self) -> Exit {
        Exit(self.code)
    }
}

/// A failure's code, on its way out.
pub struct Exit(u8);

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> ExitCode {
        ExitCode::from(exit.0)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}
