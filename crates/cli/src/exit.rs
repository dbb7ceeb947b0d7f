//! Exit codes that scripts can use.

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

    pub fn usage(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 2 }
    }

    pub fn interrupted(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 130 }
    }

    pub fn unreachable(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: 4 }
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
