//! Bars, served as they are asked for, streamed; and what an answer would be, before a byte of it.

use super::{body, problem::Refusal, seats::Seats, wire};
use actix_web::{
    HttpRequest, HttpResponse, get,
    http::header::{self, EntityTag, IfNoneMatch},
    post,
    web::{Bytes, Data, Header, Json},
};
use mizuno_api::Explanation;
use mizuno_core::Completeness;
use mizuno_research::{
    Research,
    answer::Prepared,
    encode::Style,
    question::{
        Format, Layout, Question,
        given::{Given, Value},
        resolve::Resolved,
    },
};
use std::sync::Arc;
use tokio::sync::mpsc;
use utoipa::IntoParams;

/// The keys of a question; docs/questions.md tells of each. Lists are parted by commas.
#[derive(IntoParams)]
#[into_params(parameter_in = Query)]
#[allow(dead_code, reason = "it describes the keys; they are read by the question itself")]
pub(super) struct Keys {
    /// Name of a saved question; other keys stand in the place of its own.
    saved: Option<String>,
    /// Name of a series, as in `KBF/1m/harbour` or `KBF/1m/golden`; or give `instruments` and `interval`.
    series: Option<String>,
    /// Symbol of an instrument, present or former; the same as `instruments` with one.
    instrument: Option<String>,
    /// Symbols of instruments, and patterns as `AL*`, parted by commas; the answer keeps their order.
    instruments: Option<String>,
    /// Words that instruments are found by, beside those named.
    search: Option<String>,
    /// A universe, whose members are asked for, beside those named.
    universe: Option<String>,
    /// Of a universe: `masked` (each on its days as a member; also when left out) or `whole` (whole histories).
    members: Option<String>,
    /// Interval, as collected; 1d when left out.
    interval: Option<String>,
    /// Source, or several parted by commas, of which `golden` may be one; the golden series when left out.
    source: Option<String>,
    /// `trade` (also when left out, where there are trades), `bid`, `ask` or `mid`, or several parted by commas.
    side: Option<String>,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// Instead of a range: the last so many sessions.
    last: Option<String>,
    /// Instead of a range: the present `week`, `month` or `year`.
    this: Option<String>,
    /// Only what was known at this instant; `now`, or nothing, for the newest. The header `Mizuno-As-Of` tells the instant an answer stands for.
    as_of: Option<String>,
    /// Instead of the bars, what differs from the answer as of this instant; ask next time with the `Mizuno-As-Of` of this answer.
    since: Option<String>,
    /// `long` (a row a bar, also when left out), `wide` (a row a moment) or `latest` (a row an instrument: its newest bar).
    layout: Option<String>,
    /// Of a wide file: `outer` (moments that any instrument has, also when left out) or `inner` (that all have).
    join: Option<String>,
    /// Of a wide file: each series beside the first also as its `difference` from it, or its `ratio` to it.
    against: Option<String>,
    /// The interval that coarser bars are made of; the coarsest collected one that divides them when left out.
    made_from: Option<String>,
    /// Bars so much coarser that no series has more than so many rows, as for the width of a picture; the header `Mizuno-Interval` says which they are.
    fit: Option<String>,
    /// Where coarser bars of a session begin: `session` (its open, and after each break; also when left out), or a zone, on whose clock they do.
    align: Option<String>,
    /// The session that weeks and longer are labelled by: `first` (also when left out) or `last`.
    label: Option<String>,
    /// Coarser bars of which something is missing: `kept` (also when left out) or `dropped`.
    incomplete: Option<String>,
    /// Prices adjusted for `none` (as traded; also when left out), `splits`, or `all` (dividends, rights and spin-offs too).
    adjust: Option<String>,
    /// Continuous series of futures at their rolls: `kept` (as traded; also when left out), `difference` or `ratio`.
    rolls: Option<String>,
    /// Where adjusted or joined prices are as traded: `newest` (also when left out), `oldest`, or with `adjust` a trade date after which no
    /// action counts.
    anchor: Option<String>,
    /// Where an instrument was delisted, the price of its delisting as one bar more: `left-out` (also when left out) or `last-price`.
    delisting: Option<String>,
    /// Columns in order, as in `time,close,mean_200`.
    columns: Option<String>,
    /// Other names for columns, as in `close:Close,date:Date`.
    names: Option<String>,
    /// Numbers held against the bar before, where bars are missing between the two: `empty` (also when left out) or `bridged`.
    across_gaps: Option<String>,
    /// Only rows of which all this holds, parted by commas, as in `close > mean_200,volume >= 1000`.
    r#where: Option<String>,
    /// Of each instrument only the first so many of these rows; in long files.
    keep_first: Option<String>,
    /// Of each instrument only the last so many of these rows; in long files.
    keep_last: Option<String>,
    /// With `layout=latest`: a number that the rows are sorted by, smallest first; with a minus before it largest first.
    sort: Option<String>,
    /// With `layout=latest`: only the first so many rows.
    limit: Option<String>,
    /// `absent` (also when left out), `rows` (a row for every expected slot) or `carried` (the last close, marked; in wide files).
    missing: Option<String>,
    /// The clock of stamps: an IANA zone, a shift as `+02:00`, or `+02:00/America/New_York`; UTC when left out.
    zone: Option<String>,
    /// `rfc3339` (also when left out), `wall`, `seconds`, `millis`, `micros`, or a pattern of strftime.
    stamp: Option<String>,
    /// `open` (also when left out) or `end` of an intraday bar.
    stamp_at: Option<String>,
    /// Only bars that open between two times at the venue, as in `10:00-12:00`.
    hours: Option<String>,
    /// Only the first minutes of each session.
    first_minutes: Option<String>,
    /// Only the last minutes of each session.
    last_minutes: Option<String>,
    /// Prices to so many decimals, or to the `tick`.
    round: Option<String>,
    /// `csv` (also when left out), `ndjson`, `json`, `parquet` or `xlsx`.
    format: Option<String>,
    /// What parts the cells of a CSV file: `comma` (also when left out), `semicolon`, `tab` or `pipe`.
    separator: Option<String>,
    /// `point` (also when left out) or `comma`, in a CSV file.
    decimal_sign: Option<String>,
    /// Whether a CSV file begins with the names of its columns.
    header: Option<String>,
    /// Quotation marks in a CSV file: `needed` (also when left out), or `texts`: round every text, stamp and name of a column.
    quotes: Option<String>,
    /// `rows` (also when left out) or `columns`, in a JSON file.
    arrays: Option<String>,
    /// `exact` (also when left out) or `floats`, in a Parquet file or a workbook.
    numbers: Option<String>,
}

/// What is wrong with a question, in one refusal.
pub(super) fn refused(problems: Vec<String>) -> Refusal {
    Refusal::invalid(problems.join("; "))
}

/// The keys and values of an address.
pub(super) fn pairs(request: &HttpRequest) -> Result<Vec<(String, String)>, Refusal> {
    let read = serde_urlencoded::from_str(request.query_string());
    read.map_err(|e| Refusal::invalid(format!("what stands behind the question mark cannot be read: {e}")))
}

/// Whether whoever asks has the answer with this validator already.
pub(super) fn has_seen(seen: Option<Header<IfNoneMatch>>, tag: &EntityTag) -> bool {
    matches!(seen.map(Header::into_inner), Some(IfNoneMatch::Items(tags)) if tags.iter().any(|t| t.weak_eq(tag)))
}

async fn from_address(research: &Research, request: &HttpRequest) -> Result<Question, Refusal> {
    read(research, Given::from_pairs(pairs(request)?).map_err(Refusal::invalid)?).await
}

pub(super) async fn from_body(research: &Research, request: &HttpRequest, body: &[u8]) -> Result<Question, Refusal> {
    let text = std::str::from_utf8(body).map_err(|_| Refusal::invalid("the question is not UTF-8".to_owned()))?;
    let toml = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).is_some_and(|t| t.contains("toml"));
    let given = if toml { Given::from_toml(text) } else { Given::from_json(text) }.map_err(Refusal::invalid)?;
    read(research, given).await
}

/// A question of its own keys, or of a saved one with these keys in the place of its own.
pub(super) async fn read(research: &Research, mut given: Given) -> Result<Question, Refusal> {
    if let Some(Value::Text(name)) = given.0.remove("saved") {
        given = research.given_by_name(&research.desk.setup(), &name, given).await?;
    }
    Question::read(given).map_err(refused)
}

/// Bars of one instrument or many, golden or of one source, long or wide. A daily bar has a `date`, others a `time`;
/// prices are exact decimals; in a golden series each bar names its `source`.
#[utoipa::path(
    params(Keys),
    responses(
        (status = 200, description = "The bars", content((String = "text/csv"), (String = "application/x-ndjson"), (String = "application/json"), (String = "application/vnd.apache.parquet"), (String = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"))),
        (status = 304, description = "Not changed since the validator sent"),
        (status = 404, description = "No such instrument or series", body = mizuno_api::Problem, content_type = "application/problem+json"),
        (status = 503, description = "Too many questions at once; Retry-After says when to ask again", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/bars")]
pub(super) async fn serve_bars(
    research: Data<Research>,
    seats: Data<Seats>,
    request: HttpRequest,
    seen: Option<Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let question = from_address(&research, &request).await?;
    serve(research.into_inner(), &seats, client(&request), question, seen).await
}

/// The same for a question that is too long for an address: its keys as a JSON object, or as TOML (`application/toml`).
#[utoipa::path(
    request_body(content((mizuno_api::AnyQuestion = "application/json"), (String = "application/toml"))),
    responses(
        (status = 200, description = "The bars", content((String = "text/csv"), (String = "application/x-ndjson"), (String = "application/json"), (String = "application/vnd.apache.parquet"), (String = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"))),
        (status = 304, description = "Not changed since the validator sent"),
        (status = 404, description = "No such instrument or series", body = mizuno_api::Problem, content_type = "application/problem+json"),
        (status = 503, description = "Too many questions at once; Retry-After says when to ask again", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[post("/api/v1/bars")]
pub(super) async fn serve_long_question(
    research: Data<Research>,
    seats: Data<Seats>,
    request: HttpRequest,
    body: Bytes,
    seen: Option<Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let question = from_body(&research, &request, &body).await?;
    serve(research.into_inner(), &seats, client(&request), question, seen).await
}

/// What a question is and what its answer would be, before a byte is served: its series, how complete each is, the columns, how many
/// bars and blocks are read, the instant, and the same question in other forms.
#[utoipa::path(params(Keys), responses((status = 200, body = Explanation)))]
#[get("/api/v1/explanation")]
pub(super) async fn explain(research: Data<Research>, request: HttpRequest) -> Result<Json<Explanation>, Refusal> {
    let question = from_address(&research, &request).await?;
    explained(research.into_inner(), question).await
}

/// The same for a question that is too long for an address.
#[utoipa::path(
    request_body(content((mizuno_api::AnyQuestion = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = Explanation))
)]
#[post("/api/v1/explanation")]
pub(super) async fn explain_long_question(
    research: Data<Research>,
    request: HttpRequest,
    body: Bytes,
) -> Result<Json<Explanation>, Refusal> {
    let question = from_body(&research, &request, &body).await?;
    explained(research.into_inner(), question).await
}

async fn explained(research: Arc<Research>, question: Question) -> Result<Json<Explanation>, Refusal> {
    let resolved = research.resolve(question).await?;
    let prepared = research.prepare(resolved).await?;
    let explained = research.explain(&prepared).await?;
    Ok(Json(wire::explanation(&prepared, &explained)))
}

/// Who asks, as far as a request says it.
pub(super) fn client(request: &HttpRequest) -> &str {
    request.headers().get(header::USER_AGENT).and_then(|v| v.to_str().ok()).unwrap_or_default()
}

async fn serve(
    research: Arc<Research>,
    seats: &Seats,
    client: &str,
    question: Question,
    seen: Option<Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let seat = seats.take(client, question.shape.layout != Layout::Long).await?;
    let turn = seat.turn().await;
    let resolved = research.resolve(question).await?;
    let question = resolved.question.clone();
    let draft = research.draft(resolved).await?;
    // A file that names its instant has other bytes as of another, though the same bars.
    let weak = question.file.format.is_typed() && question.as_of.is_none();
    let tag = EntityTag::new(weak, draft.validator()[..32].to_owned());
    if has_seen(seen, &tag) {
        return Ok(HttpResponse::NotModified().insert_header(header::ETag(tag)).finish());
    }
    let format = question.file.format;
    let (head, about, mut answer) = match question.since {
        Some(since) => {
            let (head, about) = (Head::of(draft.told()), about(draft.told()));
            (head, about, draft.changes(research.draft_then(&question, since).await?, format.is_typed()).await?)
        }
        None => {
            let prepared = draft.prepare().await?;
            (Head::of(&prepared), about(&prepared), prepared.begin(format.is_typed()).await?)
        }
    };
    let about = if format.is_typed() { about } else { vec![] };
    let style = Style { file: question.file, clock: question.shape.clock.clone(), stamp: question.shape.stamp.clone(), about };
    // What cannot be read at all is refused with the reason, which a broken stream could not tell.
    let first = answer.next().await?;
    let second = if first.is_some() { answer.next().await? } else { None };
    let mut response = HttpResponse::Ok();
    response.content_type(format.media_type()).insert_header(header::ETag(tag));
    head.write(&mut response, format);
    if second.is_none() {
        // A short answer is one piece, and nobody waits for its reader.
        return Ok(response.body(body::whole(first.as_ref(), &answer, style)?));
    }
    let (pieces, streamed) = mpsc::channel(2);
    // Not on a thread that answers calls: there, whoever asks for the status would wait for block after block.
    let work = body::stream(first.into_iter().chain(second).collect(), answer, style, pieces, (seat, turn));
    Ok(response.streaming(body::begun(streamed, research.desk.hands.spawn(work)).await?))
}

/// Figures of completeness, as headers and files tell them.
fn figures(c: Completeness) -> String {
    format!("expected={}, held={}, excused={}, missing={}, quiet={}", c.expected, c.held, c.excused, c.missing, c.quiet)
}

/// What an answer says of itself in its headers.
struct Head {
    series: String,
    interval: String,
    file: String,
    as_of: String,
    configuration: String,
    question: String,
    resolved: String,
    completeness: Option<String>,
    adjustment: Option<String>,
}

impl Head {
    fn of(prepared: &Prepared) -> Head {
        let resolved: &Resolved = &prepared.resolved;
        let digest = resolved.asked.digest();
        let (series, file) = match &prepared.members[..] {
            [one] => (one.wanted.key.to_string(), one.wanted.key.to_string().replace('/', "_")),
            many => (format!("{} series", many.len()), format!("bars-{}", &digest[..12])),
        };
        Head {
            series,
            interval: resolved.question.interval_word(),
            file,
            as_of: resolved.instant.to_string(),
            configuration: resolved.configuration(),
            question: digest,
            resolved: resolved.digest(),
            completeness: prepared.completeness().map(figures),
            adjustment: resolved.question.adjust.is_some().then(|| prepared.actions_in_figures()).flatten(),
        }
    }

    fn write(self, response: &mut actix_web::HttpResponseBuilder, format: Format) {
        response
            .insert_header(("Content-Disposition", format!("attachment; filename=\"{}.{}\"", self.file, format.word())))
            .insert_header(("Mizuno-Series", self.series))
            .insert_header(("Mizuno-Interval", self.interval))
            .insert_header(("Mizuno-As-Of", self.as_of))
            .insert_header(("Mizuno-Configuration", self.configuration))
            .insert_header(("Mizuno-Question", self.question))
            .insert_header(("Mizuno-Resolved", self.resolved));
        if let Some(figures) = self.completeness {
            response.insert_header(("Mizuno-Completeness", figures));
        }
        if let Some(figures) = self.adjustment {
            response.insert_header(("Mizuno-Actions", figures));
        }
    }
}

/// What a file says of itself, as far as a reader a year later needs it.
fn about(prepared: &Prepared) -> Vec<(String, String)> {
    let resolved = &prepared.resolved;
    let mut out = vec![
        ("mizuno.question".to_owned(), resolved.asked.to_json()),
        ("mizuno.question.digest".to_owned(), resolved.asked.digest()),
        ("mizuno.resolved.digest".to_owned(), resolved.digest()),
        ("mizuno.as_of".to_owned(), resolved.instant.to_string()),
        ("mizuno.configuration".to_owned(), resolved.configuration()),
        ("mizuno.adjustment".to_owned(), prepared.adjustment()),
        ("mizuno.units".to_owned(), prepared.units()),
    ];
    if let Some(c) = prepared.completeness() {
        out.push(("mizuno.completeness".to_owned(), figures(c)));
    }
    out
}
