//! The checks at work: what they find in each series, worked out anew when its bars have changed.

use crate::{desk::Desk, error::ServiceError, setup::Setup};
use mizuno_config::profile::{Adjusted, ListKind, Offer};
use mizuno_core::{
    Interval, SeriesKey, Side, Slot, Span, Timestamp, TradeDate,
    check::Flaw,
    finding::{self, Finding, Rules, Split, Subject},
};
use mizuno_store::series::SeriesRow;
use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, Mutex, PoisonError},
};

/// Sessions of bars shorter than a day that are looked at, up to the newest.
const SESSIONS: usize = 40;

/// What was found in each series, until its bars, or what they are held against, change.
#[derive(Default)]
pub(crate) struct Examined(Mutex<Remembered>);

type Remembered = HashMap<i64, (Standard, Arc<Vec<Finding>>)>;

/// What findings follow from, as far as it can change.
#[derive(Clone, Debug, PartialEq)]
struct Standard {
    revision: i64,
    of_minutes: Option<i64>,
    rules: Rules,
    splits: Option<Vec<Split>>,
    refused: Vec<Slot>,
    first: Slot,
}

/// The splits that lists of sources know, by symbol, and the venues that have such a list at all.
#[derive(Clone, Debug, Default)]
pub(crate) struct Splits {
    by_symbol: BTreeMap<String, Vec<Split>>,
    venues: Vec<String>,
}

impl Splits {
    /// The splits of an instrument; `None` when its venue has no list of them.
    pub(crate) fn of(&self, setup: &Setup, symbol: &str) -> Option<&[Split]> {
        let venue = &setup.known(symbol)?.venue;
        self.venues.contains(venue).then(|| self.by_symbol.get(symbol).map_or(&[][..], Vec::as_slice))
    }
}

/// What every series' findings are judged by, read once for a question about many.
pub(crate) struct Known {
    pub splits: Splits,
    as_of: Timestamp,
    /// Stamps refused because the venue was closed, in order, by series.
    refused: HashMap<i64, Vec<Slot>>,
    /// What a person accepted, by series.
    accepted: HashMap<i64, Vec<(String, Span)>>,
    /// The series with bars of a minute.
    minutes: HashMap<SeriesKey, SeriesRow>,
}

/// A finding, and whether a person accepted it.
#[derive(Clone, Debug)]
pub(crate) struct Judged {
    pub finding: Finding,
    pub accepted: bool,
}

impl Desk {
    /// The splits that were known at an instant.
    pub(crate) async fn splits(&self, setup: &Setup, as_of: Timestamp) -> Result<Splits, ServiceError> {
        let mut out = Splits::default();
        for (source, profile) in &setup.config.sources {
            for list in profile.lists.iter().filter(|l| l.of == ListKind::Splits) {
                let mut any = false;
                for row in self.store.list_rows_as_of(source, &list.name, as_of).await? {
                    let columns: serde_json::Value = serde_json::from_str(&row.body).unwrap_or_default();
                    let number =
                        |name: &str| columns[name].as_str().and_then(|t| t.parse::<i64>().ok()).filter(|n| (1..10_000).contains(n));
                    let date = columns["ex_date"].as_str().and_then(|t| t.parse::<TradeDate>().ok());
                    any = true;
                    if let (Some(symbol), Some(ex_date), Some(new), Some(old)) =
                        (columns["symbol"].as_str(), date, number("new"), number("old"))
                    {
                        let all = out.by_symbol.entry(symbol.to_owned()).or_default();
                        all.push(Split { ex_date, new, old });
                        all.sort_by_key(|s| s.ex_date);
                        all.dedup();
                    }
                }
                if any {
                    out.venues.push(list.venue.clone());
                }
            }
        }
        Ok(out)
    }

    /// What findings are judged by, as of an instant.
    pub(crate) async fn known(&self, setup: &Setup, as_of: Timestamp) -> Result<Known, ServiceError> {
        let all = self.store.series().await?.into_iter().filter(|s| s.key.interval == Interval::MINUTE);
        Ok(Known {
            splits: self.splits(setup, as_of).await?,
            as_of,
            // When a stamp was refused is not kept; the past is judged by its bars alone.
            refused: if as_of == Timestamp::MAX { self.refused_stamps().await? } else { HashMap::new() },
            accepted: self.store.accepted(as_of).await?,
            minutes: all.map(|s| (s.key.clone(), s)).collect(),
        })
    }

    /// What the checks find in a series.
    pub(crate) async fn findings(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Vec<Judged>, ServiceError> {
        let (Some(offer), Some(instrument)) = (offer_of(setup, &row.key), setup.known(&row.key.symbol)) else { return Ok(vec![]) };
        let minutes = known.minutes_of(setup, &row.key, offer);
        let now = known.as_of == Timestamp::MAX;
        let first = match row.key.interval {
            Interval::Intraday { .. } if now => recent(setup.calendar_of(instrument)?, self.clock.now()).start,
            _ => Slot(i64::MIN),
        };
        let standard = Standard {
            revision: row.revision,
            of_minutes: minutes.map(|m| m.revision),
            rules: setup.config.checks.rules(instrument),
            splits: known.splits.of(setup, &row.key.symbol).map(<[Split]>::to_vec),
            refused: known.refused.get(&row.id).cloned().unwrap_or_default(),
            first,
        };
        let before = self.examined.lock().get(&row.id).filter(|(s, _)| now && *s == standard).map(|(_, found)| found.clone());
        let found = match before {
            Some(found) => found,
            None => {
                let found = Arc::new(self.examine(setup, row, &standard, minutes, known.as_of).await?);
                if now {
                    self.examined.lock().insert(row.id, (standard, found.clone()));
                }
                found
            }
        };
        let accepted = known.accepted.get(&row.id).map_or(&[][..], Vec::as_slice);
        let is_accepted = |f: &Finding| {
            accepted.iter().any(|(check, span)| check == f.check.word() && span.start <= f.span.start && f.span.end <= span.end)
        };
        Ok(found.iter().map(|f| Judged { accepted: is_accepted(f), finding: f.clone() }).collect())
    }

    async fn examine(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        standard: &Standard,
        minutes: Option<&SeriesRow>,
        as_of: Timestamp,
    ) -> Result<Vec<Finding>, ServiceError> {
        let (Some(offer), Some(instrument)) = (offer_of(setup, &row.key), setup.known(&row.key.symbol).cloned()) else { return Ok(vec![]) };
        let calendar = setup.calendar_of(&instrument)?.clone();
        let bars = self.store.bars(row, standard.first..Slot(i64::MAX), as_of).await?;
        let minutes = match minutes {
            Some(minutes) => {
                // Before the last split, daily bars adjusted for it stand on another basis than minutes as traded.
                let split = standard.splits.iter().flatten().last().filter(|_| offer.adjusted != Adjusted::No);
                let since =
                    split.map_or(Slot(i64::MIN), |s| calendar.span_of_dates(Interval::MINUTE, s.ex_date..TradeDate(i32::MAX)).start);
                let span = recent(&calendar, self.clock.now());
                Some(self.store.bars(minutes, span.start.max(since)..span.end, as_of).await?)
            }
            None => None,
        };
        let interval = row.key.interval;
        // Adjusted prices and mids need not be whole ticks, and a split must not show in what is adjusted for it.
        let on_grid = offer.adjusted == Adjusted::No && row.key.side != Side::Mid;
        let lot = i64::from(offer.volume_unit);
        let (rules, refused) = (standard.rules.clone(), standard.refused.clone());
        let (splits, splits_known) = match (&standard.splits, offer.adjusted) {
            (Some(splits), Adjusted::No) => (splits.clone(), true),
            // Nothing known may show.
            (Some(_), _) => (vec![], true),
            (None, _) => (vec![], false),
        };
        let look = move || {
            let subject = Subject {
                interval,
                calendar: &calendar,
                bars: &bars,
                tick: instrument.tick_size.filter(|_| on_grid),
                lot,
                splits: &splits,
                splits_known,
                refused: &refused,
                minutes: minutes.as_ref(),
            };
            finding::find(&subject, &rules)
        };
        tokio::task::spawn_blocking(look).await.map_err(|e| ServiceError::Invalid(e.to_string()))
    }

    async fn refused_stamps(&self) -> Result<HashMap<i64, Vec<Slot>>, ServiceError> {
        let mut out: HashMap<i64, Vec<Slot>> = HashMap::new();
        for (series, slot) in self.store.slots_with(Flaw::ClosedMarket.word()).await? {
            out.entry(series).or_default().push(slot);
        }
        out.values_mut().for_each(|slots| {
            slots.sort_unstable();
            slots.dedup();
        });
        Ok(out)
    }
}

impl Known {
    /// The minutes that a daily series can be held against: of the same source and side, on the same basis.
    fn minutes_of(&self, setup: &Setup, key: &SeriesKey, offer: &Offer) -> Option<&SeriesRow> {
        let minute = SeriesKey { interval: Interval::MINUTE, ..key.clone() };
        // Since the last split, prices adjusted for splits are as traded.
        let same_basis = offer_of(setup, &minute).is_some_and(|m| m.adjusted == offer.adjusted || offer.adjusted == Adjusted::Splits);
        if key.interval == Interval::Daily && same_basis { self.minutes.get(&minute) } else { None }
    }
}

impl Examined {
    /// What was found in a series when it was last looked at.
    pub(crate) fn last(&self, series: i64) -> Vec<Finding> {
        self.lock().get(&series).map(|(_, found)| found.to_vec()).unwrap_or_default()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Remembered> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a series' source says of such series.
pub(crate) fn offer_of<'s>(setup: &'s Setup, key: &SeriesKey) -> Option<&'s Offer> {
    let venue = &setup.known(&key.symbol)?.venue;
    setup.config.sources.get(&key.source)?.offer(venue, key.interval, key.side)
}

/// The newest sessions, of which daily bars are held against their minutes.
fn recent(calendar: &mizuno_core::Calendar, now: Timestamp) -> Span {
    let sessions = calendar.sessions();
    let closed = sessions.partition_point(|s| s.close() <= now);
    let first = sessions.get(closed.saturating_sub(SESSIONS)).map_or(Slot(i64::MIN), |s| Slot::at(s.open()));
    first..Slot(i64::MAX)
}

/// The bars that findings cast doubt on, but for those a person accepted.
pub(crate) fn doubted(found: &[Judged]) -> mizuno_core::Spans {
    finding::doubted(&found.iter().filter(|f| !f.accepted).map(|f| f.finding.clone()).collect::<Vec<_>>())
}
