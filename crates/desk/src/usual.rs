//! What of a thinly traded series is only quiet: series looked at together are witnesses for each other.

use crate::{sight::Sights, view::View};
use mizuno_core::{Interval, Side, Spans, quiet::quiet, spans::intersection};
use std::{
    collections::HashMap,
    hash::{DefaultHasher, Hash, Hasher},
    sync::Arc,
};

/// Series of one venue, source, interval and side.
type Group = (String, String, Interval, Side);

impl Sights {
    /// Takes out of what is expected the slots in which thinly traded instruments are only quiet. Series looked at
    /// together are witnesses for each other: the same instrument at another source, and the lively ones of a venue at the same source.
    pub fn expect_what_is_usual(&self, views: &mut [View<'_>]) {
        let thin: Vec<usize> = (0..views.len()).filter(|at| views[*at].row.key.interval.is_intraday() && !views[*at].is_lively()).collect();
        if thin.is_empty() {
            return;
        }
        let mut elsewhere: HashMap<(String, Interval, Side), Vec<usize>> = HashMap::new();
        let mut together: HashMap<Group, Vec<usize>> = HashMap::new();
        for (at, view) in views.iter().enumerate().filter(|(_, v)| v.row.key.interval.is_intraday()) {
            let key = &view.row.key;
            elsewhere.entry((key.symbol.clone(), key.interval, key.side)).or_default().push(at);
            together.entry(group_of(view)).or_default().push(at);
        }
        let serials = |members: &[usize]| members.iter().map(|at| views[*at].serial).collect::<Vec<_>>();
        let digests: HashMap<&Group, u64> = together.iter().map(|(group, members)| (group, digest(&serials(members)))).collect();
        let mut outages: HashMap<&Group, Spans> = HashMap::new();
        let mut usual = vec![];
        for at in thin {
            let view = &views[at];
            let key = &view.row.key;
            let (Some((group, members)), Some(others)) =
                (together.get_key_value(&group_of(view)), elsewhere.get(&(key.symbol.clone(), key.interval, key.side)))
            else {
                continue;
            };
            let followed_from = digest(&(view.serial, serials(others), digests[group]));
            if let Some(sight) = self.recall_usual(view.row.id, followed_from) {
                usual.push((at, sight));
                continue;
            }
            let outage = outages.entry(group).or_insert_with(|| outage(views, members));
            let held_elsewhere = others.iter().filter(|other| **other != at).flat_map(|other| views[*other].standing.held.iter());
            let never = held_elsewhere.chain(view.evidence.quarantined.iter()).chain(outage.iter()).cloned().collect();
            let found = quiet(view.post.calendar, key.interval, &view.standing, &view.answered(), &never);
            let sight = if found.is_empty() { view.sight.clone() } else { Arc::new(view.sight.with_quiet(found)) };
            self.remember_usual(view.row.id, view, followed_from, sight.clone());
            usual.push((at, sight));
        }
        for (at, sight) in usual {
            views[at].sight = sight;
        }
    }
}

fn group_of(view: &View<'_>) -> Group {
    let key = &view.row.key;
    (view.post.venue.code.clone(), key.source.clone(), key.interval, key.side)
}

fn digest(of: &impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    of.hash(&mut hasher);
    hasher.finish()
}

/// The slots that none of the lively series of a group has, though all were asked for; of fewer than three it would say nothing.
fn outage(views: &[View<'_>], members: &[usize]) -> Spans {
    let mut missing = members.iter().map(|at| &views[*at]).filter(|v| v.is_lively()).map(|v| v.standing.missing());
    let (Some(first), Some(second), Some(third)) = (missing.next(), missing.next(), missing.next()) else { return Spans::new() };
    missing.fold(intersection(&intersection(&first, &second), &third), |all, more| intersection(&all, &more))
}
