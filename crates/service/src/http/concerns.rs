//! What needs a person, in words: what it is, what to do next, and which command and which things show it.

use mizuno_api::words::count;
use mizuno_core::gap::Cause;
use mizuno_desk::{Concern, concern::MissingSum, timetable::length};

/// What a concern is about: the kind of thing, and which one where it is one.
struct About(&'static str, Option<String>);

fn one(things: &'static str, which: &str) -> About {
    About(things, Some(which.to_owned()))
}

fn all(things: &'static str) -> About {
    About(things, None)
}

pub(super) fn wire(concern: &Concern) -> mizuno_api::Concern {
    let About(of, which) = about(concern);
    mizuno_api::Concern {
        kind: kind(concern).to_owned(),
        needs_a_person: concern.needs_a_person(),
        count: concern.count(),
        what: what(concern),
        next: next(concern),
        command: command(concern),
        of: of.to_owned(),
        which,
    }
}

fn kind(concern: &Concern) -> &'static str {
    match concern {
        Concern::NotWriting(_) => "not-writing",
        Concern::Damaged(_) => "damaged",
        Concern::Late(_) | Concern::NoNextTime(_) => "late",
        Concern::EditionHeldUp { .. } | Concern::EditionFailed { .. } | Concern::StorageBehind { .. } => "edition",
        Concern::FetchesFailed(_) | Concern::ListsFailed(_) => "failed",
        Concern::Paused(_) => "paused",
        Concern::Slowed { .. } => "limit",
        Concern::PublishesLate(_) => "slow-source",
        Concern::OnTheOldBasis { .. } | Concern::OnTwoBases { .. } => "new-basis",
        Concern::ListHeldBack { .. } => "list-held-back",
        Concern::KeysTwice(_) | Concern::ListsDisagree(_) => "conflict",
        Concern::UniverseDoubted { .. } => "universe",
        Concern::Missing(..) => "missing",
        Concern::Quarantined(_) => "quarantined",
        Concern::Suspicious { .. } => "suspicious",
        Concern::HeldBack(_) => "held-back",
        Concern::Checking(_) => "checking",
        Concern::Restated { .. } => "restated",
    }
}

fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(n), if n == 1 { one } else { many })
}

fn what(concern: &Concern) -> String {
    match concern {
        Concern::NotWriting(why) => format!("nothing can be written: {why}"),
        Concern::Damaged(series) => {
            let first = series[..series.len().min(3)].join("; ");
            format!("{} cannot be read: {first}", counted(series.len() as u64, "series", "series"))
        }
        Concern::Late(names) => format!("{} should have run and did not", names.join(", ")),
        Concern::NoNextTime(names) => format!("{} has a schedule and no next time", names.join(", ")),
        Concern::EditionHeldUp { edition, due, why } => {
            format!("the edition {edition}, due at {}, is held up: {}", due.to_the_minute(), why.join("; "))
        }
        Concern::StorageBehind { edition, why } => format!("the object storage of {edition} is behind: {why}"),
        Concern::EditionFailed { edition, why } => format!("the edition {edition} could not be made: {why}"),
        Concern::FetchesFailed(n) => format!("{} failed in the last 24 hours", counted(*n, "fetch", "fetches")),
        Concern::Paused(names) => format!("{} kept failing; probed again by itself", names.join(", ")),
        Concern::Slowed { source, refused_at, declared } => {
            format!("{source} says too many calls at {refused_at} a minute; the profile says {declared}")
        }
        Concern::PublishesLate(late) => format!(
            "{} publishes up to {} after a bar's end; the profile says {} ({})",
            late.source,
            length(late.seen),
            length(late.said),
            late.collector
        ),
        Concern::OnTheOldBasis { series, since, reason, count } => format!(
            "{} still read as before the source changed its basis: {series} since {}, {reason}",
            counted(*count, "series is", "series are"),
            since.to_the_minute()
        ),
        Concern::OnTwoBases { series, reason, count } => format!(
            "{} on two bases since the source changed its own: {series}, {reason}",
            counted(*count, "series stands", "series stand")
        ),
        Concern::ListHeldBack { list, rows, would_end } => {
            format!("{list} has {} now; that would end {would_end} of its entries", counted(*rows, "row", "rows"))
        }
        Concern::KeysTwice(lists) => {
            let lists: Vec<String> = lists.iter().map(|(list, times)| format!("{list} ({times})")).collect();
            format!("one key stands twice in {}", lists.join(", "))
        }
        Concern::ListsDisagree(said) => format!("lists contradict each other: {}", said.first().map_or("", String::as_str)),
        Concern::UniverseDoubted { universe, first, count } => {
            format!("{} in who belongs to {universe}: {first}", counted(*count, "doubt", "doubts"))
        }
        Concern::ListsFailed(lists) => format!("{} could not be collected", lists.join(", ")),
        Concern::Missing(cause, MissingSum { slots, gaps, series }) => format!(
            "{} missing in {} of {series} series: {}",
            counted(*slots, "bar", "bars"),
            counted(*gaps, "gap", "gaps"),
            super::gaps::sentence(*cause)
        ),
        Concern::Quarantined(n) => format!("{} came that cannot be true", counted(*n, "bar", "bars")),
        Concern::Suspicious { doubts, notices, series } => {
            format!("{} and {} in {series} series", counted(*doubts, "doubt", "doubts"), counted(*notices, "notice", "notices"))
        }
        Concern::HeldBack(n) => {
            format!("{} waiting for a decision: a source changed a price by more than its policy takes", counted(*n, "bar is", "bars are"))
        }
        Concern::Checking(n) => {
            format!("{} being checked again; what was found before is counted", counted(*n, "series is", "series are"))
        }
        Concern::Restated { bars, fetches } => {
            format!("{} restated by {} in the last 24 hours", counted(*bars, "bar", "bars"), counted(*fetches, "fetch", "fetches"))
        }
    }
}

fn next(concern: &Concern) -> String {
    let fixed = match concern {
        Concern::PublishesLate(late) => return format!("write delay = \"{}\" into its profile", length(late.seen).replace(' ', "")),
        Concern::NotWriting(_) => "make room or mend the disk; reading goes on, and writing by itself as soon as it is possible",
        Concern::Damaged(_) => "check the disk, then put a copy of the data directory back; what sources say meanwhile is kept",
        Concern::Late(_) => "collect it now",
        Concern::EditionHeldUp { .. } => "it is made by itself as soon as that holds; or make it as it is",
        Concern::EditionFailed { .. } => "see why, and make it again",
        Concern::StorageBehind { .. } => "see to the storage or to its key; it is tried again by itself",
        Concern::NoNextTime(_) => "look at its schedule, and at the venue's sessions",
        Concern::FetchesFailed(_) | Concern::Paused(_) | Concern::ListsFailed(_) => "read why",
        Concern::Slowed { .. } => "it is asked more slowly by itself; write what it means into calls_per_minute",
        Concern::OnTheOldBasis { .. } => "each run goes on with what is missing; or let readers see what there is",
        Concern::OnTwoBases { .. } => "what could not be collected again keeps its old prices; compare it with another source",
        Concern::ListHeldBack { .. } => "look at it; take it if that is so, or refuse it and collect it again",
        Concern::KeysTwice(_) => "the last row counts; look at the list's key",
        Concern::UniverseDoubted { .. } => "see who says what; spell the name in its file, or put another list first",
        Concern::ListsDisagree(_) => "see what is right, and mend the list that is not",
        Concern::Missing(Cause::NeverAsked, _) => "collect them",
        Concern::Missing(Cause::BeyondReach, _) => "excuse them, or collect from a later date on",
        Concern::Missing(..) => "repair or excuse them",
        Concern::Quarantined(_) => "look at the rows, then repair or excuse them",
        Concern::Suspicious { .. } => "see what other sources say, then accept them with a note",
        Concern::HeldBack(_) => "take or refuse them",
        Concern::Checking(_) => "look again in a while",
        Concern::Restated { .. } => "see what changed",
    };
    fixed.to_owned()
}

fn command(concern: &Concern) -> String {
    let fixed = match concern {
        Concern::Late(names) => return format!("mizuno collect {}", names.first().map_or("", String::as_str)),
        Concern::EditionHeldUp { edition, .. } => return format!("mizuno editions {edition} --make --by NAME"),
        Concern::EditionFailed { edition, .. } | Concern::StorageBehind { edition, .. } => {
            return format!("mizuno editions {edition}");
        }
        Concern::Slowed { source, .. } => return format!("mizuno fetches --failed --source {source}"),
        Concern::OnTheOldBasis { series, .. } => return format!("mizuno settle {series} --by NAME"),
        Concern::ListHeldBack { list, .. } => return format!("mizuno lists {list} --take --by NAME"),
        Concern::UniverseDoubted { universe, .. } => return format!("mizuno universe {universe}"),
        Concern::Missing(cause, _) => return format!("mizuno gaps --cause {cause}"),
        Concern::NotWriting(_) | Concern::Checking(_) => "mizuno status",
        Concern::Damaged(_) | Concern::FetchesFailed(_) | Concern::Paused(_) => "mizuno fetches --failed",
        Concern::NoNextTime(_) | Concern::PublishesLate(_) => "mizuno schedule",
        Concern::KeysTwice(_) | Concern::ListsDisagree(_) | Concern::ListsFailed(_) => "mizuno lists",
        Concern::Quarantined(_) | Concern::HeldBack(_) => "mizuno quarantine",
        Concern::Suspicious { .. } | Concern::OnTwoBases { .. } => "mizuno findings",
        Concern::Restated { .. } => "mizuno restatements --days 1",
    };
    fixed.to_owned()
}

fn about(concern: &Concern) -> About {
    match concern {
        Concern::NotWriting(_) | Concern::Checking(_) => all("service"),
        Concern::Damaged(_) | Concern::FetchesFailed(_) | Concern::Paused(_) => all("fetches"),
        Concern::EditionHeldUp { edition, .. } | Concern::StorageBehind { edition, .. } => one("editions", edition),
        Concern::EditionFailed { edition, .. } => one("editions", edition.split('/').next().unwrap_or_default()),
        Concern::Slowed { source, .. } => one("fetches", source),
        Concern::Late(names) | Concern::NoNextTime(names) => About("collectors", names.first().cloned()),
        Concern::PublishesLate(late) => one("collectors", &late.collector),
        Concern::OnTheOldBasis { series, .. } | Concern::OnTwoBases { series, .. } => one("series", series),
        Concern::ListHeldBack { list, .. } => one("lists", list),
        Concern::UniverseDoubted { universe, .. } => one("universes", universe),
        Concern::KeysTwice(_) | Concern::ListsDisagree(_) | Concern::ListsFailed(_) => all("lists"),
        Concern::Missing(cause, _) => one("gaps", cause.word()),
        Concern::Quarantined(_) | Concern::HeldBack(_) => all("quarantine"),
        Concern::Suspicious { .. } => all("findings"),
        Concern::Restated { .. } => all("restatements"),
    }
}
