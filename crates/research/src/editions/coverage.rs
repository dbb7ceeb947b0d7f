//! How complete each series of an edition is, month by month.

use super::{
    cutting::{Cutting, month},
    table::Table,
};
use mizuno_core::Completeness;
use mizuno_desk::DeskError;
use std::{collections::BTreeMap, sync::Arc};

/// Each series with its months, as `2025-03`, in order.
pub(super) type Coverage = Vec<(String, Vec<(String, Completeness)>)>;

/// How complete each series of the answers is, month by month.
pub(super) fn coverage(cuttings: &[Arc<Cutting>]) -> Result<Coverage, DeskError> {
    let mut out: BTreeMap<String, BTreeMap<String, Completeness>> = BTreeMap::new();
    for cutting in cuttings {
        let Some(dates) = cutting.whole.dates()? else { continue };
        for place in 0..cutting.whole.members.len() {
            let name = cutting.whole.members[place].wanted.key.to_string();
            if out.contains_key(&name) {
                continue;
            }
            let months = out.entry(name).or_default();
            let mut at = dates.start;
            while at < dates.end {
                let (first, next) = month(at);
                if let Some(c) = cutting.whole.completeness_on(place, &(first..next))?.filter(|c| c.expected + c.quiet > 0) {
                    months.insert(first.to_string()[..7].to_owned(), c);
                }
                at = next;
            }
        }
    }
    Ok(out.into_iter().map(|(name, months)| (name, months.into_iter().collect())).collect())
}

pub(super) fn table(all: &Coverage) -> Table {
    let mut out = Table::new(&["series", "month", "expected", "held", "excused", "missing", "quiet", "percent"]);
    for (series, months) in all {
        for (month, c) in months {
            let counts = [c.expected, c.held, c.excused, c.missing, c.quiet].map(|n| n.to_string());
            out.rows.push([vec![series.clone(), month.clone()], counts.to_vec(), vec![format!("{:.2}", share_of(c))]].concat());
        }
    }
    out
}

/// The share that is there, in percent.
pub(super) fn share_of(c: &Completeness) -> f64 {
    let of = c.expected + c.quiet;
    if of == 0 { 100.0 } else { (c.held + c.excused + c.quiet) as f64 * 100.0 / of as f64 }
}
