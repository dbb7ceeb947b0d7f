//! Bars, served in the format asked for, streamed.

use super::{problem::Refusal, query::Query};
use actix_web::{
    HttpResponse, get,
    http::header::{self, EntityTag, IfNoneMatch},
    web::{Bytes, Data},
};
use mizuno_config::GOLDEN;
use mizuno_core::{Completeness, Interval, SeriesKey, Side, Span};
use mizuno_desk::{Desk, Setup, View, moments, views::Seen};
use mizuno_research::{
    Research,
    encode::{self, Column, Format, Layout},
    reading::{Piece, Reader},
    whole::union,
};
use serde::Deserialize;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa::IntoParams;

/// A reader that takes nothing for this long is given up, so that it does not keep its pieces in memory for ever.
const PATIENCE: Duration = Duration::from_secs(60);

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Question {
    /// Name of a series, as in `KBF/1m/harbour` or `KBF/1m/golden`; or give `instrument` and `interval`.
    series: Option<String>,
    /// Symbol of an instrument, present or former.
    instrument: Option<String>,
    /// Interval, as collected.
    interval: Option<String>,
    /// Source; the golden series when left out.
    source: Option<String>,
    /// `trade` (also when left out, where there are trades), `bid`, `ask` or `mid`.
    side: Option<String>,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// Only what was known at this instant; `now`, or nothing, for the newest. The header `Mizuno-As-Of` tells the instant an answer stands for.
    as_of: Option<String>,
    /// Columns in order, as in `time,close`.
    columns: Option<String>,
    /// `csv` (also when left out), `ndjson`, `json` or `parquet`.
    format: Option<String>,
    /// IANA zone to write instants in; UTC when left out.
    zone: Option<String>,
}

/// Bars of one series, of the golden one when no source is asked for. A daily bar has a `date`, others a `time`;
/// prices are exact decimals; in a golden series each bar names its `source`.
#[utoipa::path(
    params(Question),
    responses(
        (status = 200, description = "The bars", content((String = "text/csv"), (String = "application/x-ndjson"), (String = "application/json"), (String = "application/vnd.apache.parquet"))),
        (status = 304, description = "Not changed since the validator sent"),
        (status = 404, description = "No such instrument or series", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/bars")]
pub(super) async fn serve_bars(
    research: Data<Research>,
    ask: Query<Question>,
    seen: Option<actix_web::web::Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let desk = &research.desk;
    let setup = desk.setup();
    let instant = desk.pinned("as_of", ask.as_of.as_deref()).await?;
    let key = choose(desk, &setup, &ask).await?;
    let calendar = setup.calendar_of(setup.instrument(&key.symbol)?)?;
    let asked = moments::Asked { from: ask.from.as_deref(), to: ask.to.as_deref() };
    let span = moments::span(asked, key.interval, calendar)?;
    let format: Format = ask.format.as_deref().unwrap_or("csv").parse()?;
    let golden = key.source == GOLDEN;
    let columns = Column::list(ask.columns.as_deref(), key.interval, golden)?;
    let zone = ask.zone.as_deref().map(zone).transpose()?;
    let subject = research.subject(&setup, &key, instant).await?;
    let (rows, state) = (subject.rows(), subject.state());
    let mut reading = research.read(subject, calendar, span.clone(), instant).await?;

    let tag = validator(&state, &ask);
    if let Some(IfNoneMatch::Items(tags)) = seen.map(actix_web::web::Header::into_inner)
        && tags.iter().any(|t| t.weak_eq(&tag))
    {
        return Ok(HttpResponse::NotModified().insert_header(header::ETag(tag)).finish());
    }
    let sources = rows.iter().map(|r| r.key.source.clone()).collect();
    let completeness = completeness_of(&setup, golden, &desk.views_at(&setup, rows, Seen::at(instant)).await?, &span);
    let (price, volume) = reading.room();
    let layout = Layout { format, columns, interval: key.interval, zone, price, volume, sources };

    // What cannot be read at all is refused with the reason, which a broken stream could not tell.
    let first = reading.next().await?;
    let (pieces, body) = mpsc::channel(2);
    tokio::spawn(stream(first, reading, layout, pieces));
    let mut response = HttpResponse::Ok();
    response
        .content_type(format.media_type())
        .insert_header(header::ETag(tag))
        .insert_header((
            "Content-Disposition",
            format!("attachment; filename=\"{}.{}\"", key.to_string().replace('/', "_"), format.ending()),
        ))
        .insert_header(("Mizuno-Series", key.to_string()))
        .insert_header(("Mizuno-As-Of", instant.to_string()));
    if let Some(c) = completeness {
        let figures = format!("expected={}, held={}, excused={}, missing={}, quiet={}", c.expected, c.held, c.excused, c.missing, c.quiet);
        response.insert_header(("Mizuno-Completeness", figures));
    }
    Ok(response.streaming(ReceiverStream::new(body)))
}

/// What a file says of itself: of one series its own figures, of a golden one those of all its sources together.
fn completeness_of(setup: &Setup, golden: bool, views: &[View<'_>], span: &Span) -> Option<Completeness> {
    match golden {
        true => union(setup, views).map(|whole| whole.completeness(span)),
        false => views.first().map(|view| view.completeness(span)),
    }
}

/// Writes the file a batch at a time; memory holds a batch or two, however long the answer.
async fn stream(mut next: Option<Piece>, mut reading: Reader, layout: Layout, pieces: mpsc::Sender<Result<Bytes, std::io::Error>>) {
    let send = async |piece: Vec<u8>| piece.is_empty() || matches!(pieces.send_timeout(Ok(piece.into()), PATIENCE).await, Ok(()));
    let work = async {
        let mut encoder = encode::encoder(layout)?;
        let mut out = vec![];
        encoder.begin(&mut out)?;
        while let Some((bars, from)) = next {
            encoder.bars(&bars, &from, &mut out)?;
            if !send(std::mem::take(&mut out)).await {
                return Err("the reader went away".to_owned());
            }
            next = reading.next().await.map_err(|e| e.to_string())?;
        }
        encoder.finish(&mut out)?;
        send(out).await;
        Ok(())
    };
    if let Err(error) = work.await {
        // Breaking the connection tells the reader that the file is not whole.
        tracing::warn!(error, "an answer was not finished");
        let _ = pieces.try_send(Err(std::io::Error::other(error)));
    }
}

fn zone(name: &str) -> Result<jiff::tz::TimeZone, Refusal> {
    jiff::tz::TimeZone::get(name)
        .map_err(|_| Refusal::invalid(format!("zone: `{name}` is not an IANA time zone; write it like Pacific/Auckland")))
}

/// The validator: the state of what is read, and everything that shapes the answer.
fn validator(state: &[u8], ask: &Question) -> EntityTag {
    let shape = [&ask.from, &ask.to, &ask.as_of, &ask.columns, &ask.format, &ask.zone].map(|p| p.as_deref().unwrap_or_default()).join("\n");
    let digest = mizuno_store::payloads::digest(&[state, shape.as_bytes()].concat());
    EntityTag::new_strong(digest[..32].to_owned())
}

/// The series a question is about; a golden one has no row of its own.
async fn choose(desk: &Desk, setup: &Setup, ask: &Question) -> Result<SeriesKey, Refusal> {
    let (symbol, interval, side, source) = match (&ask.series, &ask.instrument) {
        (Some(name), _) => {
            let key = setup.present(name.parse::<SeriesKey>().map_err(|e| Refusal::invalid(format!("series: {e}")))?);
            let symbol = ask.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
            let said = [
                ("instrument", symbol, key.symbol.clone()),
                ("interval", ask.interval.clone(), key.interval.to_string()),
                ("source", ask.source.clone(), key.source.clone()),
                ("side", ask.side.clone(), key.side.to_string()),
            ];
            if let Some((name, said, is)) = said.into_iter().find_map(|(name, said, is)| Some((name, said.filter(|s| *s != is)?, is))) {
                return Err(Refusal::invalid(format!(
                    "{name}: {said} contradicts the series {key}, whose {name} is {is}; leave one of the two out"
                )));
            }
            (key.symbol, key.interval, Some(key.side), key.source)
        }
        (None, Some(symbol)) => {
            let interval = ask.interval.as_deref().unwrap_or("1d");
            let interval = interval.parse::<Interval>().map_err(|e| Refusal::invalid(e.to_string()))?;
            let side = ask.side.as_deref().map(str::parse::<Side>).transpose().map_err(|e| Refusal::invalid(e.to_string()))?;
            (setup.instrument(symbol)?.symbol.clone(), interval, side, ask.source.clone().unwrap_or_else(|| GOLDEN.to_owned()))
        }
        (None, None) => {
            return Err(Refusal::invalid("say whose bars: series=KBF/1m/harbour, or instrument=KBF and interval=1m".to_owned()));
        }
    };
    let mut found = desk.store.series_of(&symbol).await?;
    found.retain(|s| s.key.interval == interval && (source == GOLDEN || s.key.source == source));
    found.retain(|s| side.is_none_or(|side| side == s.key.side));
    let mut sides: Vec<Side> = found.iter().map(|s| s.key.side).collect();
    sides.sort_unstable();
    sides.dedup();
    let side = match sides[..] {
        // Where there are trades, they are what is meant.
        [Side::Trade, ..] => Side::Trade,
        [one] => one,
        [] => {
            let wanted = SeriesKey { symbol, interval, side: side.unwrap_or(Side::Trade), source };
            return Err(desk.no_series(&wanted.to_string()).await?.into());
        }
        _ => {
            let words: Vec<String> = sides.iter().map(ToString::to_string).collect();
            return Err(Refusal::invalid(format!("{symbol} has no trades at {interval}, but {}; say which side", words.join(" and "))));
        }
    };
    Ok(SeriesKey { symbol, interval, side, source })
}
