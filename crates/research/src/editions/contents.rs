//! What an edition says of itself: tables of what it was made from, what is missing, doubtful or accepted, and what has changed.
//!
//! All of it is as of the edition's instant. Rows stand in a fixed order.

use super::{
    coverage::{self, Coverage},
    cutting::Cutting,
    table::Table,
};
use crate::{Research, adjusting::Adjusted, rolled::Chain};
use mizuno_config::Edition;
use mizuno_core::{Completeness, Decimal, Instrument, Overlap, Span, Timestamp, TradeDate, adjust::Effect};
use mizuno_desk::{DeskError, Setup, moments::written, universes::Universe, views::Seen};
use mizuno_store::series::SeriesRow;
use std::{collections::BTreeMap, fmt::Display, sync::Arc};

/// What an edition says of itself.
pub(super) struct Contents {
    pub instant: Timestamp,
    pub since: Option<Timestamp>,
    /// The configuration that counted.
    pub configuration: String,
    /// By the names of their files.
    pub tables: Vec<(&'static str, Table)>,
    /// How complete all of it is.
    pub completeness: Completeness,
    /// Instruments that were asked for and have no bars, each with the reason.
    pub without: BTreeMap<String, String>,
    /// Instruments in it.
    pub instruments: Vec<String>,
    /// Those that are new since the edition before, and those that are gone.
    pub joined: Vec<String>,
    pub left: Vec<String>,
    /// What does not hold of what the spec wants.
    pub does_not_hold: Vec<String>,
    /// How complete each series is in each month of trade dates.
    pub coverage: Coverage,
}

/// A series that an edition is made of: where it is asked for.
struct Asked {
    row: SeriesRow,
    span: Span,
}

fn text(value: Option<impl Display>) -> String {
    value.map(|v| v.to_string()).unwrap_or_default()
}

impl Contents {
    /// Gathers all of it.
    pub async fn gather(
        research: &Arc<Research>,
        edition: &Edition,
        cuttings: &[Arc<Cutting>],
        instant: Timestamp,
        since: Option<Timestamp>,
    ) -> Result<Contents, DeskError> {
        let setup = research.desk.setup_at(instant).await?;
        let mut instruments: BTreeMap<String, Instrument> = BTreeMap::new();
        let mut asked: BTreeMap<String, Asked> = BTreeMap::new();
        let mut chains: BTreeMap<String, Arc<Chain>> = BTreeMap::new();
        let mut universes: BTreeMap<String, Arc<Universe>> = BTreeMap::new();
        let mut adjusted: BTreeMap<String, Arc<Adjusted>> = BTreeMap::new();
        let mut dates: BTreeMap<String, std::ops::Range<TradeDate>> = BTreeMap::new();
        let (mut without, mut completeness) = (BTreeMap::new(), Completeness::default());
        for cutting in cuttings {
            let whole = &cutting.whole;
            completeness = [completeness, whole.completeness().unwrap_or_default()].into_iter().sum();
            without.extend(whole.resolved.without.iter().cloned());
            if let Some(universe) = &whole.resolved.universe {
                universes.insert(universe.name.clone(), universe.clone());
            }
            let range = whole.dates()?;
            for member in &whole.members {
                let wanted = &member.wanted;
                match &wanted.chain {
                    Some(chain) => {
                        chains.insert(chain.name.clone(), chain.clone());
                        instruments.extend(chain.instruments.iter().map(|i| (setup.symbol_then(i).to_owned(), i.clone())));
                    }
                    None => drop(instruments.insert(wanted.instrument.symbol.clone(), Instrument::clone(&wanted.instrument))),
                }
                if let (Some(found), None) = (&member.adjusted, &wanted.chain) {
                    adjusted.insert(wanted.instrument.symbol.clone(), found.clone());
                }
                for row in member.subject.rows() {
                    let all = asked.entry(row.key.to_string()).or_insert_with(|| Asked { row, span: wanted.span.clone() });
                    all.span = all.span.hull(&wanted.span);
                }
                if let Some(range) = &range {
                    let all = dates.entry(wanted.instrument.venue.clone()).or_insert_with(|| range.clone());
                    *all = all.start.min(range.start)..all.end.max(range.end);
                }
            }
        }
        let coverage = coverage::coverage(cuttings)?;
        let (findings, gaps, excuses) = of_series(research, &setup, &asked, instant).await?;
        let (joined, left) = match since {
            None => (vec![], vec![]),
            Some(since) => changed_instruments(research, cuttings, since, &instruments).await?,
        };
        let tables = vec![
            ("instruments", of_instruments(&instruments)),
            ("calendar", calendar(&setup, &dates)),
            ("actions", actions(&adjusted)),
            ("rolls", rolls(&chains)),
            ("members", members(&setup, &universes)),
            ("coverage", coverage::table(&coverage)),
            ("findings", findings),
            ("gaps", gaps),
            ("excuses", excuses),
            ("without", Table::of(&["instrument", "why"], without.iter().map(|(symbol, why)| vec![symbol.clone(), why.clone()]))),
        ];
        let whole: Vec<&Cutting> = cuttings.iter().map(Arc::as_ref).collect();
        Ok(Contents {
            instant,
            since,
            configuration: cuttings.first().map(|c| c.whole.resolved.configuration()).unwrap_or_default(),
            // A table that has nothing to tell is left out.
            tables: tables.into_iter().filter(|(_, table)| table.rows() > 0).collect(),
            completeness,
            without,
            instruments: instruments.into_keys().collect(),
            joined,
            left,
            does_not_hold: research.does_not_hold_of(edition, &whole).await?,
            coverage,
        })
    }
}

fn of_instruments(all: &BTreeMap<String, Instrument>) -> Table {
    let row = |(symbol, i): (&String, &Instrument)| {
        // What it was called later was not known yet.
        let former: Vec<String> =
            i.former.iter().take_while(|f| f.symbol != *symbol).map(|f| format!("{} until {}", f.symbol, f.until)).collect();
        vec![
            symbol.clone(),
            i.name.clone(),
            i.kind.clone(),
            i.venue.clone(),
            i.currency.clone(),
            text(i.tick_size),
            text(i.multiplier),
            text(i.listed),
            text(i.last_traded),
            text(i.product.as_ref()),
            text(i.expiry),
            text(i.first_notice),
            text(i.strike),
            text(i.leverage),
            former.join("; "),
        ]
    };
    let headings = [
        "instrument",
        "name",
        "kind",
        "venue",
        "currency",
        "tick_size",
        "multiplier",
        "listed",
        "last_traded",
        "product",
        "expiry",
        "first_notice",
        "strike",
        "leverage",
        "former_symbols",
    ];
    Table::of(&headings, all.iter().map(row))
}

/// The sessions that the files are about, in UTC.
fn calendar(setup: &Setup, dates: &BTreeMap<String, std::ops::Range<TradeDate>>) -> Table {
    let mut out = Table::new(&["venue", "trade_date", "opens", "closes", "breaks"]);
    for (venue, range) in dates {
        let Some(calendar) = setup.calendars.get(venue) else { continue };
        for session in calendar.between(range.clone()) {
            let breaks: Vec<String> = session.stretches.windows(2).map(|w| format!("{} to {}", w[0].end, w[1].start)).collect();
            let row = [venue.clone(), session.date.to_string(), session.open().to_string(), session.close().to_string(), breaks.join("; ")];
            out.rows.push(row.to_vec());
        }
    }
    out
}

/// The actions of adjusted instruments with what each does; factors are exact fractions.
fn actions(all: &BTreeMap<String, Arc<Adjusted>>) -> Table {
    let mut out = Table::new(&[
        "instrument",
        "ex_date",
        "action",
        "counts_on",
        "price_factor",
        "volume_factor",
        "not_applied",
        "told_by",
        "learned_at",
    ]);
    for (symbol, adjusted) in all {
        for (known, judged) in &adjusted.actions {
            let (price, volume, not) = match &judged.effect {
                Effect::Applied { price, volume } => (price.to_string(), volume.to_string(), String::new()),
                Effect::NotAsked => (String::new(), String::new(), "the question does not ask for actions of its kind".to_owned()),
                Effect::AfterAnchor => (String::new(), String::new(), "its ex-date comes after the anchor".to_owned()),
                Effect::Not(why) => (String::new(), String::new(), why.clone()),
            };
            let (action, learned) = (&known.action, known.learned.to_string());
            out.rows.push(vec![
                symbol.clone(),
                action.ex_date.to_string(),
                action.to_string(),
                judged.counts_on.to_string(),
                price,
                volume,
                not,
                known.from.name().to_owned(),
                learned,
            ]);
        }
    }
    out
}

fn rolls(all: &BTreeMap<String, Arc<Chain>>) -> Table {
    let mut out =
        Table::new(&["chain", "decided", "from", "old", "new", "closes_on", "old_close", "new_close", "difference", "ratio", "why"]);
    for (name, chain) in all {
        for roll in &chain.rolled.rolls {
            let close = |of: fn((TradeDate, Decimal, Decimal)) -> String| roll.closes.map(of).unwrap_or_default();
            out.rows.push(vec![
                name.clone(),
                roll.decided.to_string(),
                roll.from.to_string(),
                chain.contracts[roll.contracts.0].symbol.clone(),
                chain.contracts[roll.contracts.1].symbol.clone(),
                close(|(on, ..)| on.to_string()),
                close(|(_, old, _)| old.to_string()),
                close(|(.., new)| new.to_string()),
                text(roll.closes.and_then(|(_, old, new)| new.minus(old))),
                text(roll.ratio()),
                roll.why.clone(),
            ]);
        }
    }
    out
}

fn members(setup: &Setup, all: &BTreeMap<String, Arc<Universe>>) -> Table {
    let mut out = Table::new(&["universe", "instrument", "from", "to", "told_by", "joined_because", "left_because"]);
    for (name, universe) in all {
        for (symbol, stays) in &universe.members {
            let symbol = setup.known(symbol).map_or(symbol.as_str(), |i| setup.symbol_then(i));
            for stay in stays {
                let days = &stay.stay.days;
                let (from, to) = (
                    Some(days.start).filter(|d| *d != mizuno_core::membership::ALWAYS),
                    Some(days.end).filter(|d| *d != mizuno_core::membership::STILL),
                );
                out.rows.push(vec![
                    name.clone(),
                    symbol.to_owned(),
                    text(from),
                    text(to),
                    stay.by.clone(),
                    text(stay.joined.as_ref()),
                    text(stay.left.as_ref()),
                ]);
            }
        }
    }
    out
}

/// What is found, missing and accepted in the series that the files are made of, where they are asked for.
async fn of_series(
    research: &Arc<Research>,
    setup: &Arc<Setup>,
    asked: &BTreeMap<String, Asked>,
    instant: Timestamp,
) -> Result<(Table, Table, Table), DeskError> {
    let mut findings = Table::new(&["series", "check", "severity", "from", "to", "bars", "accepted", "detail"]);
    let mut gaps = Table::new(&["series", "from", "to", "bars", "cause", "times_asked"]);
    let mut excuses = Table::new(&["series", "from", "to", "finding", "by", "note", "given_at"]);
    let known = research.known(setup, instant).await?;
    let ends = |row: &SeriesRow, span: &Span| {
        let (interval, last) = (row.key.interval, mizuno_core::Slot(span.end.0 - row.key.interval.step()));
        // A stretch is told by its first and its last slot.
        [written(interval, span.start), written(interval, last)]
    };
    for (name, Asked { row, span }) in asked {
        for judged in research.findings(setup, row, &known).await?.iter().filter(|j| j.finding.span.overlaps(span)) {
            let (finding, [from, to]) = (&judged.finding, ends(row, &judged.finding.span));
            let (check, severity) = (finding.check.word().to_owned(), finding.check.severity().word().to_owned());
            let accepted = if judged.accepted { "yes" } else { "no" }.to_owned();
            findings.rows.push(vec![name.clone(), check, severity, from, to, finding.bars.to_string(), accepted, finding.detail.clone()]);
        }
    }
    let rows = asked.values().map(|a| a.row.clone()).collect();
    let mut views = research.desk.views_at(setup, rows, Seen::at(instant)).await?;
    views.sort_by_key(|view| view.row.key.to_string());
    for view in &views {
        let name = view.row.key.to_string();
        for gap in view.gaps().iter().filter(|gap| gap.span.overlaps(&asked[&name].span)) {
            let [from, to] = ends(&view.row, &gap.span);
            gaps.rows.push(vec![name.clone(), from, to, gap.slots.to_string(), gap.cause.to_string(), gap.asked.to_string()]);
        }
    }
    let by_id: BTreeMap<i64, (&String, &Asked)> = asked.iter().map(|(name, asked)| (asked.row.id, (name, asked))).collect();
    for excuse in research.desk.store.excuses().await?.into_iter().filter(|e| e.is_in_force(instant)) {
        let Some((name, asked)) = by_id.get(&excuse.series).filter(|(_, asked)| excuse.span.overlaps(&asked.span)) else { continue };
        let [from, to] = ends(&asked.row, &excuse.span);
        excuses.rows.push(vec![(*name).clone(), from, to, text(excuse.finding), excuse.by, excuse.note, excuse.given_at.to_string()]);
    }
    excuses.rows.sort();
    Ok((findings, gaps, excuses))
}

/// The instruments that are in the answers and were not, and those that were and are not.
async fn changed_instruments(
    research: &Arc<Research>,
    cuttings: &[Arc<Cutting>],
    since: Timestamp,
    now: &BTreeMap<String, Instrument>,
) -> Result<(Vec<String>, Vec<String>), DeskError> {
    let mut then = std::collections::BTreeSet::new();
    for cutting in cuttings {
        let resolved = research.resolve_then(&cutting.question, since).await?;
        for wanted in resolved.series {
            match &wanted.chain {
                Some(chain) => then.extend(chain.instruments.iter().map(|i| i.symbol.clone())),
                None => drop(then.insert(wanted.instrument.symbol.clone())),
            }
        }
    }
    let joined = now.keys().filter(|symbol| !then.contains(*symbol)).cloned().collect();
    Ok((joined, then.into_iter().filter(|symbol| !now.contains_key(symbol)).collect()))
}
