//! Bars, served in the format asked for, streamed.

use super::problem::Refusal;
use crate::{
    desk::Desk,
    encode::{self, Column, Format, Layout},
    error::ServiceError,
    moments,
    setup::Setup,
};
use actix_web::{
    HttpResponse, get,
    http::header::{self, EntityTag, IfNoneMatch},
    web::{Bytes, Data, Query},
};
use mizuno_store::{bars::Reading, series::SeriesRow};
use serde::Deserialize;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa::IntoParams;

/// A reader that takes nothing for this long is given up, so that it does not hold its snapshot for ever.
const PATIENCE: Duration = Duration::from_secs(60);

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Question {
    /// Name of a series, as in `KBF/1m/harbour`; or give `instrument` and `interval`.
    series: Option<String>,
    /// Symbol of an instrument, present or former.
    instrument: Option<String>,
    /// Interval, as collected.
    interval: Option<String>,
    /// Source, when several have the series.
    source: Option<String>,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// Only what was known at this instant.
    as_of: Option<String>,
    /// Columns in order, as in `time,close`.
    columns: Option<String>,
    /// `csv` (also when left out), `ndjson`, `json` or `parquet`.
    format: Option<String>,
    /// IANA zone to write instants in; UTC when left out.
    zone: Option<String>,
}

/// Bars of one series. A daily bar has a `date`, others a `time`; prices are exact decimals.
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
    desk: Data<Desk>,
    ask: Query<Question>,
    seen: Option<actix_web::web::Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let setup = desk.setup();
    let row = choose(&desk, &setup, &ask).await?;
    let key = row.key.clone();
    let instrument = setup.instrument(&key.symbol)?;
    let calendar = setup.calendar_of(instrument)?;
    let asked = moments::Asked { from: ask.from.as_deref(), to: ask.to.as_deref() };
    let span = moments::span(asked, key.interval, calendar)?;
    let as_of = moments::as_of(ask.as_of.as_deref(), desk.clock.now())?;
    let format: Format = ask.format.as_deref().unwrap_or("csv").parse()?;
    let columns = Column::list(ask.columns.as_deref(), key.interval)?;
    let zone = ask.zone.as_deref().map(zone).transpose()?;

    let tag = validator(&row, &ask);
    if let Some(IfNoneMatch::Items(tags)) = seen.map(actix_web::web::Header::into_inner)
        && tags.iter().any(|t| t.weak_eq(&tag))
    {
        return Ok(HttpResponse::NotModified().insert_header(header::ETag(tag)).finish());
    }
    let completeness = desk.views(&setup, vec![row.clone()]).await?.first().map(|v| v.completeness(&span));
    let reading = desk.store.read(&row, span, as_of).await?;
    let layout =
        Layout { format, columns, interval: key.interval, zone, price_scale: reading.price_scale, volume_scale: reading.volume_scale };

    let (pieces, body) = mpsc::channel(2);
    tokio::spawn(stream(reading, layout, pieces));
    let mut response = HttpResponse::Ok();
    response
        .content_type(format.media_type())
        .insert_header(header::ETag(tag))
        .insert_header((
            "Content-Disposition",
            format!("attachment; filename=\"{}.{}\"", key.to_string().replace('/', "_"), format.ending()),
        ))
        .insert_header(("Mizuno-Series", key.to_string()));
    if let Some(c) = completeness {
        let figures = format!("expected={}, held={}, excused={}, missing={}", c.expected, c.held, c.excused, c.missing);
        response.insert_header(("Mizuno-Completeness", figures));
    }
    Ok(response.streaming(ReceiverStream::new(body)))
}

/// Writes the file a batch at a time; memory holds a batch or two, however long the answer.
async fn stream(mut reading: Reading, layout: Layout, pieces: mpsc::Sender<Result<Bytes, std::io::Error>>) {
    let send = async |piece: Vec<u8>| piece.is_empty() || matches!(pieces.send_timeout(Ok(piece.into()), PATIENCE).await, Ok(()));
    let work = async {
        let mut encoder = encode::encoder(layout)?;
        let mut out = vec![];
        encoder.begin(&mut out)?;
        while let Some(bars) = reading.next().await.map_err(|e| e.to_string())? {
            encoder.bars(&bars, &mut out)?;
            if !send(std::mem::take(&mut out)).await {
                return Err("the reader went away".to_owned());
            }
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

/// The validator: the series' revision, and everything that shapes the answer.
fn validator(row: &SeriesRow, ask: &Question) -> EntityTag {
    let shape = [&ask.from, &ask.to, &ask.as_of, &ask.columns, &ask.format, &ask.zone].map(|p| p.as_deref().unwrap_or_default()).join("\n");
    let digest = mizuno_store::payloads::digest(shape.as_bytes());
    EntityTag::new_strong(format!("{}-{}-{}", row.id, row.revision, &digest[..16]))
}

/// The series a question is about.
async fn choose(desk: &Desk, setup: &Setup, ask: &Question) -> Result<SeriesRow, Refusal> {
    let all = desk.store.series().await?;
    let mut found: Vec<&SeriesRow> = if let Some(name) = &ask.series {
        let key = name.parse::<mizuno_core::SeriesKey>().map_err(|e| Refusal::invalid(format!("series: {e}")))?;
        all.iter().filter(|s| s.key == key).collect()
    } else {
        let Some(symbol) = &ask.instrument else {
            return Err(Refusal::invalid("say whose bars: series=KBF/1m/harbour, or instrument=KBF and interval=1m".to_owned()));
        };
        let symbol = &setup.instrument(symbol)?.symbol;
        let interval = ask.interval.as_deref().unwrap_or("1d");
        let interval: mizuno_core::Interval =
            interval.parse().map_err(|e: mizuno_core::interval::NotAnInterval| Refusal::invalid(e.to_string()))?;
        all.iter().filter(|s| s.key.symbol == *symbol && s.key.interval == interval).collect()
    };
    found.retain(|s| ask.source.as_ref().is_none_or(|name| *name == s.key.source));
    match found[..] {
        [one] => Ok(one.clone()),
        [] => {
            let wanted = ask.series.clone().unwrap_or_else(|| {
                format!(
                    "{}/{}/{}",
                    ask.instrument.as_deref().unwrap_or_default(),
                    ask.interval.as_deref().unwrap_or("1d"),
                    ask.source.as_deref().unwrap_or("*")
                )
            });
            let names: Vec<String> = all.iter().map(|s| s.key.to_string()).collect();
            Err(ServiceError::unknown("series", &wanted, names.iter().map(String::as_str)).into())
        }
        _ => {
            let names: Vec<String> = found.iter().map(|s| s.key.to_string()).collect();
            Err(Refusal::invalid(format!("several series fit: {}; say which source, or name the series", names.join(", "))))
        }
    }
}
