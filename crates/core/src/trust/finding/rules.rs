//! The checks by name, and under which rules each looks.

use std::fmt;

/// A check on bars that could be true.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Check {
    /// A price far from all its neighbours, that reverts.
    Spike,
    /// A jump from session to session near the ratio of a split, without one; or a split without its jump.
    SplitLikeJump,
    /// Bars that stand still, in a series that moves.
    Flat,
    /// Prices off the instrument's grid of ticks.
    OffTick,
    /// Volumes off by a round factor, for a session or more.
    VolumeFactor,
    /// A price that moves without any volume.
    SilentMove,
    /// A session's stamps an hour early or late.
    ShiftedHour,
    /// A session's stamps one bar early or late.
    ShiftedBar,
    /// Bars stamped while the venue was closed.
    ClosedMarket,
    /// The first or the last bar of a session missing, session after session.
    SessionEdge,
    /// A daily bar that contradicts its own minutes.
    DailyAgainstMinutes,
    /// A step of adjusted prices that the known corporate actions do not account for.
    UnexplainedStep,
}

/// What a finding means for the bars it is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Worth a look; the bars are served as they are.
    Notice,
    /// The bars are doubted: the golden series prefers another source's.
    Doubt,
}

impl Severity {
    /// The word used in files, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Severity::Notice => "notice",
            Severity::Doubt => "doubt",
        }
    }
}

impl Check {
    /// All checks.
    pub const ALL: [Check; 12] = [
        Check::Spike,
        Check::SplitLikeJump,
        Check::Flat,
        Check::OffTick,
        Check::VolumeFactor,
        Check::SilentMove,
        Check::ShiftedHour,
        Check::ShiftedBar,
        Check::ClosedMarket,
        Check::SessionEdge,
        Check::DailyAgainstMinutes,
        Check::UnexplainedStep,
    ];

    /// The word used in files, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Check::Spike => "spike",
            Check::SplitLikeJump => "split-like-jump",
            Check::Flat => "flat",
            Check::OffTick => "off-tick",
            Check::VolumeFactor => "volume-factor",
            Check::SilentMove => "silent-move",
            Check::ShiftedHour => "shifted-hour",
            Check::ShiftedBar => "shifted-bar",
            Check::ClosedMarket => "closed-market",
            Check::SessionEdge => "session-edge",
            Check::DailyAgainstMinutes => "daily-against-minutes",
            Check::UnexplainedStep => "unexplained-step",
        }
    }

    /// What it means when it finds something, and what to do, in a sentence or two.
    #[must_use]
    pub fn explanation(self) -> &'static str {
        match self {
            Check::Spike => "a price far from all its neighbours, which then reverts: a bad print, unless another source has it too",
            Check::SplitLikeJump => {
                "prices jump by the ratio of a split and no split is known, or a known split does not show: look at the list of splits, and at `adjusted` in the profile"
            }
            Check::Flat => "bars stand still in a series that usually moves: a feed that repeats its last word",
            Check::OffTick => "prices that are no whole number of ticks: an adjusted or computed price, or a wrong tick size in the list",
            Check::VolumeFactor => "volumes are off by a round factor: lots for shares, or thousands; look at `volume_unit` in the profile",
            Check::SilentMove => "the price moves and nothing was traded: the volume is missing, or the price is not from trades",
            Check::ShiftedHour => {
                "a session's stamps fit its hours when moved by an hour: look at `zone` in the profile, and at daylight saving"
            }
            Check::ShiftedBar => "a session's stamps fit its hours when moved by one bar: look at `stamped_at` in the profile",
            Check::ClosedMarket => "bars are stamped while the venue was closed: look at the venue's calendar",
            Check::SessionEdge => {
                "the first or last bar is missing session after session: look at the calendar's hours and at the profile's stamps"
            }
            Check::DailyAgainstMinutes => "a daily bar is not what its own minutes make: one of the two is wrong",
            Check::UnexplainedStep => {
                "what a source takes out of its prices is not what the known corporate actions do: enter the action that is missing here, or accept this where the source is wrong"
            }
        }
    }

    /// What a finding means for its bars.
    #[must_use]
    pub fn severity(self) -> Severity {
        match self {
            Check::Spike | Check::Flat | Check::OffTick | Check::ShiftedHour | Check::ShiftedBar | Check::DailyAgainstMinutes => {
                Severity::Doubt
            }
            Check::SplitLikeJump
            | Check::VolumeFactor
            | Check::SilentMove
            | Check::ClosedMarket
            | Check::SessionEdge
            | Check::UnexplainedStep => Severity::Notice,
        }
    }

    /// The limit it looks with when nobody says otherwise, and the unit of that limit.
    #[must_use]
    pub fn usual_limit(self) -> (f64, &'static str) {
        match self {
            Check::Spike => (11.0, "deviations"),
            Check::SplitLikeJump => (8.0, "deviations"),
            Check::Flat => (5.0, "bars"),
            Check::OffTick | Check::SilentMove => (1.0, "bars"),
            Check::VolumeFactor => (4.0, "deviations"),
            Check::ShiftedHour | Check::ShiftedBar => (95.0, "percent of stamps that fit"),
            Check::ClosedMarket => (5.0, "bars"),
            Check::SessionEdge => (5.0, "sessions"),
            Check::DailyAgainstMinutes => (0.0, "ticks"),
            Check::UnexplainedStep => (0.0, "of the price"),
        }
    }
}

impl fmt::Display for Check {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How one check looks at one series.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rule {
    /// Whether it looks at all.
    pub on: bool,
    /// Beyond it something is found; see [`Check::usual_limit`] for its unit.
    pub limit: f64,
}

/// A rule for each check.
#[derive(Clone, Debug, PartialEq)]
pub struct Rules([Rule; Check::ALL.len()]);

impl Default for Rules {
    fn default() -> Rules {
        Rules(Check::ALL.map(|c| Rule { on: true, limit: c.usual_limit().0 }))
    }
}

impl Rules {
    /// The rule of a check that is switched on.
    #[must_use]
    pub fn of(&self, check: Check) -> Option<Rule> {
        Some(self.0[check as usize]).filter(|r| r.on)
    }

    /// Another rule for one check.
    pub fn set(&mut self, check: Check, rule: Rule) {
        self.0[check as usize] = rule;
    }
}
