//! A delisting's last price as the bar behind those of a series.

use crate::{
    question::resolve::Wanted,
    reading::{Leg, Subject},
};
use mizuno_core::{
    Action, Bar, Interval, Overlap, Side, Slot, Span,
    action::What,
    spans::{self, hull},
};
use mizuno_desk::{DeskError, Setup};
use std::sync::Arc;

/// The price of a delisting as the bar of its day, behind the bars of a series, which lie in `whole`; `None` where there are bars on that
/// day or after it, since trading went on, and of bids and asks, since it is neither.
pub(super) fn ending(setup: &Setup, wanted: &Wanted, whole: &Span, delisting: &Action) -> Result<Option<(Bar, Span)>, DeskError> {
    let What::Delisting { price } = delisting.what else { return Ok(None) };
    if wanted.key.interval != Interval::Daily {
        return Err(DeskError::Invalid(format!(
            "delisting: a last price stands behind daily bars, and those of {} are made of {}; leave it out, or say made_from=1d",
            wanted.key.symbol, wanted.key.interval
        )));
    }
    let date = setup.calendar_of(&wanted.instrument)?.session_from(delisting.ex_date);
    let span = Interval::Daily.span_of(Slot::on(date));
    let bar = Bar::new(span.start, [price; 4], None);
    Ok((whole.end <= span.start && wanted.key.side == Side::Trade).then_some((bar, span)))
}

/// A series whose bars end before those of `span`, and the price of its delisting behind them.
pub(super) fn with_last_price(subject: Subject, wanted: &Wanted, bar: Bar, span: &Span) -> Subject {
    let leg = |subject, span| Leg { contract: wanted.key.symbol.clone(), span, subject, shift: None, closes: None };
    Subject::Chain(vec![leg(subject, Slot(i64::MIN)..span.start), leg(Subject::Delisting(bar), span.clone())])
}

/// What is asked for of a member that stayed until it was delisted goes to the day of that, `span`.
pub(super) fn to_its_delisting(mut wanted: Wanted, span: &Span) -> Wanted {
    if let Some(days) = wanted.days.take() {
        let stayed =
            hull(&days).is_some_and(|stay| stay.end >= wanted.instrument.last_traded.map_or(span.start, |date| Slot::on(date.plus(1))));
        let stays = stayed && wanted.range.contains(&span.start);
        wanted.span = if stays { wanted.span.hull(span) } else { wanted.span };
        wanted.days = Some(if stays { Arc::new(spans::union(&days, &[span.clone()].into_iter().collect())) } else { days });
    }
    wanted
}
