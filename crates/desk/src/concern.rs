//! What a person should know of this morning, worst first.
//!
//! Each room tells its own concerns, and the doors put them into words. To add one: a variant and its rank here, where it
//! is found in a room's `concerns.rs`, and its words in `service/http/concerns.rs`.

use crate::lateness::Late;
use mizuno_core::{Timestamp, gap::Cause};

/// Something that a person should know of.
#[derive(Clone, Debug)]
pub enum Concern {
    /// Nothing can be written, and why.
    NotWriting(String),
    /// Series that cannot be read, each with the reason.
    Damaged(Vec<String>),
    /// Collectors that should have run and did not.
    Late(Vec<String>),
    /// Collectors with a schedule and no next time.
    NoNextTime(Vec<String>),
    /// An edition that is due and not made.
    EditionHeldUp {
        /// The name of its spec.
        edition: String,
        /// When it was due.
        due: Timestamp,
        /// What does not hold, in sentences.
        why: Vec<String>,
    },
    /// An edition that could not be made, and none of its spec was made since.
    EditionFailed {
        /// Its name, as SPEC/NUMBER.
        edition: String,
        /// Why.
        why: String,
    },
    /// An object storage that does not have the editions as it should.
    StorageBehind {
        /// The name of their spec.
        edition: String,
        /// Why the last attempt was given up.
        why: String,
    },
    /// Fetches that failed in the last day.
    FetchesFailed(u64),
    /// Sources that kept failing and are left alone for a while.
    Paused(Vec<String>),
    /// A source that answers "too many calls" although its declared limit is kept.
    Slowed {
        /// Its name.
        source: String,
        /// Calls a minute at which it said so.
        refused_at: u32,
        /// Calls a minute that its profile says.
        declared: u32,
    },
    /// A source that publishes later than its profile says.
    PublishesLate(Late),
    /// Series that are still read as before their source changed its basis.
    OnTheOldBasis {
        /// The first of them.
        series: String,
        /// Since when.
        since: Timestamp,
        /// Why it lasts.
        reason: String,
        /// How many there are.
        count: u64,
    },
    /// Series that could be collected again on their new basis only in part.
    OnTwoBases {
        /// The first of them.
        series: String,
        /// What could not be collected.
        reason: String,
        /// How many there are.
        count: u64,
    },
    /// A list that would end so many of its entries that a person has to say whether that is so.
    ListHeldBack {
        /// Its name, as SOURCE/LIST.
        list: String,
        /// Rows it has now.
        rows: u64,
        /// Entries that it has no longer.
        would_end: u64,
    },
    /// Lists in which a key stands more than once, and how often.
    KeysTwice(Vec<(String, u64)>),
    /// Lists that could not be collected.
    ListsFailed(Vec<String>),
    /// What lists say against each other, in sentences.
    ListsDisagree(Vec<String>),
    /// A universe of which lists say what cannot be, what contradicts another, or names that are no instruments.
    UniverseDoubted {
        /// Its name.
        universe: String,
        /// The first of what is told.
        first: String,
        /// How many there are.
        count: u64,
    },
    /// Bars that are missing for a cause.
    Missing(Cause, MissingSum),
    /// Bars that came and cannot be true.
    Quarantined(u64),
    /// What the checks found and nobody accepted.
    Suspicious {
        /// Findings that cast doubt on bars.
        doubts: u64,
        /// Findings that are only to be known.
        notices: u64,
        /// In how many series.
        series: u64,
    },
    /// Bars that wait for a decision, since their source changed them by more than its policy takes.
    HeldBack(u64),
    /// Series that are being examined again.
    Checking(u64),
    /// Bars that sources changed in the last day.
    Restated {
        /// How many.
        bars: u64,
        /// By how many fetches.
        fetches: u64,
    },
}

/// How much is missing for one cause.
#[derive(Clone, Copy, Debug, Default)]
pub struct MissingSum {
    /// Slots.
    pub slots: u64,
    /// Gaps they make.
    pub gaps: u64,
    /// Series that have such gaps.
    pub series: u64,
}

impl Concern {
    /// Whether a person has something to do; otherwise it is only to be known.
    #[must_use]
    pub fn needs_a_person(&self) -> bool {
        !matches!(self, Concern::Checking(_) | Concern::Restated { .. })
    }

    /// How many things it is about; none is no concern.
    #[must_use]
    pub fn count(&self) -> u64 {
        match self {
            Concern::NotWriting(_) | Concern::Slowed { .. } | Concern::PublishesLate(_) | Concern::ListHeldBack { .. } => 1,
            Concern::EditionHeldUp { .. } | Concern::EditionFailed { .. } | Concern::StorageBehind { .. } => 1,
            Concern::Damaged(names) | Concern::Late(names) | Concern::NoNextTime(names) => names.len() as u64,
            Concern::Paused(names) | Concern::ListsFailed(names) | Concern::ListsDisagree(names) => names.len() as u64,
            Concern::KeysTwice(lists) => lists.len() as u64,
            Concern::FetchesFailed(n) | Concern::Quarantined(n) | Concern::HeldBack(n) | Concern::Checking(n) => *n,
            Concern::OnTheOldBasis { count, .. } | Concern::OnTwoBases { count, .. } | Concern::UniverseDoubted { count, .. } => *count,
            Concern::Missing(_, sum) => sum.slots,
            Concern::Suspicious { doubts, notices, .. } => doubts + notices,
            Concern::Restated { bars, .. } => *bars,
        }
    }

    /// How bad it is, the worst first: what stops the service, what does not run, what sources and lists do, what is
    /// missing, what is doubtful, and what is only to be known.
    fn rank(&self) -> u8 {
        match self {
            Concern::NotWriting(_) => 0,
            Concern::Damaged(_) => 1,
            Concern::Late(_) => 2,
            Concern::NoNextTime(_) => 3,
            Concern::EditionFailed { .. } => 4,
            Concern::EditionHeldUp { .. } | Concern::StorageBehind { .. } => 5,
            Concern::FetchesFailed(_) => 6,
            Concern::Paused(_) => 7,
            Concern::Slowed { .. } => 8,
            Concern::PublishesLate(_) => 9,
            Concern::OnTheOldBasis { .. } => 10,
            Concern::OnTwoBases { .. } => 11,
            Concern::ListHeldBack { .. } => 12,
            Concern::KeysTwice(_) => 13,
            Concern::ListsDisagree(_) => 14,
            Concern::ListsFailed(_) => 15,
            Concern::UniverseDoubted { .. } => 16,
            Concern::Missing(cause, _) => match cause {
                Cause::FetchFailed => 17,
                Cause::LeftOut => 18,
                Cause::SourceHadNothing => 19,
                Cause::NeverAsked => 20,
                _ => 21,
            },
            Concern::Quarantined(_) => 22,
            Concern::Suspicious { .. } => 23,
            Concern::HeldBack(_) => 24,
            Concern::Checking(_) => 25,
            Concern::Restated { .. } => 26,
        }
    }
}

/// The concerns that there are, worst first.
#[must_use]
pub fn worst_first(mut concerns: Vec<Concern>) -> Vec<Concern> {
    concerns.retain(|concern| concern.count() > 0);
    concerns.sort_by_key(Concern::rank);
    concerns
}
