//! Editions: listed, made, decided about, verified, held against each other, and their files served.

use super::{
    bars::has_seen,
    problem::Refusal,
    query::{Nothing, Query},
};
use actix_web::{
    HttpRequest, HttpResponse, get,
    http::{
        StatusCode,
        header::{ContentEncoding, EntityTag, IfNoneMatch, IfRange, Range},
    },
    post,
    web::{Data, Header, Json, Path},
};
use mizuno_api::{
    ByWhom, DecideEdition, EditionChange, EditionDifference, EditionFile, EditionProgress, EditionSpec, EditionTold, EditionVerdict,
    MakeEdition, VerifyEdition,
};
use mizuno_desk::{DeskError, Setup};
use mizuno_research::{
    Research,
    editions::{Told, due, job::Why},
    question::Question,
};
use mizuno_store::editions::{EditionRow, FileRow, State};
use serde::Deserialize;
use std::{collections::BTreeMap, io::SeekFrom, sync::atomic::Ordering::Relaxed};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;
use utoipa::IntoParams;

fn edition(told: &Told) -> mizuno_api::Edition {
    let row = &told.row;
    let progress = told.progress.as_ref().map(|p| EditionProgress {
        files: p.files.load(Relaxed),
        done: p.done.load(Relaxed),
        linked: p.linked.load(Relaxed),
        rows: p.rows.load(Relaxed),
        bytes: p.bytes.load(Relaxed),
    });
    mizuno_api::Edition {
        spec: row.spec.clone(),
        number: row.number,
        label: row.label.clone(),
        as_of: row.instant.to_string(),
        state: if row.withdrawn.is_some() { "withdrawn" } else { row.state.word() }.to_owned(),
        due: row.due.map(|at| at.to_string()),
        asked_by: row.asked_by.clone(),
        begun_at: row.begun_at.to_string(),
        ended_at: row.ended_at.map(|at| at.to_string()),
        program: row.program.clone(),
        remark: row.remark.clone(),
        sums: row.sums.clone(),
        pinned: row.pinned.clone().map(|(by, why)| ByWhom { by, why, at: None }),
        published: row.published.clone().map(|(to, at)| mizuno_api::Published { to, at: at.to_string() }),
        withdrawn: row.withdrawn.clone().map(|(by, why, at)| ByWhom { by, why, at: Some(at.to_string()) }),
        progress,
    }
}

fn file(row: &FileRow) -> EditionFile {
    EditionFile { path: row.path.clone(), sha256: row.digest.clone(), bytes: row.bytes, rows: row.rows, linked: row.linked }
}

fn held_up(held: due::HeldUp) -> mizuno_api::HeldUp {
    mizuno_api::HeldUp { due: held.due.to_string(), why: held.why, until: held.until.map(|at| at.to_string()) }
}

/// Every spec of the configuration, with its newest edition, and when it is due next or what holds it up.
#[utoipa::path(responses((status = 200, body = Vec<EditionSpec>)))]
#[get("/api/v1/editions")]
pub(super) async fn list_editions(research: Data<Research>, _: Query<Nothing>) -> Result<Json<Vec<EditionSpec>>, Refusal> {
    let setup = research.desk.setup();
    let all = research.editions(None).await?;
    let spec = |described: &mizuno_config::Edition| {
        let mine: Vec<&Told> = all.iter().filter(|t| t.row.spec == described.name).collect();
        EditionSpec {
            name: described.name.clone(),
            title: described.title.clone(),
            when: described.when(),
            next: next(&research, &setup, described),
            held_up: research.held_up(&described.name).map(held_up),
            keep: described.keep,
            publish: described.publish.as_ref().map(|p| p.to.clone()),
            storage_behind: research.storage_behind(&described.name),
            table: described.table.as_ref().map(|table| table.name.clone()),
            files: described.files.iter().map(|f| f.name.clone()).collect(),
            editions: mine.iter().filter(|t| t.row.is_served()).count() as u64,
            latest: mine.iter().find(|t| t.row.is_served()).map(|t| edition(t)),
            making: mine.iter().find(|t| t.row.state == State::Making).map(|t| edition(t)),
        }
    };
    Ok(Json(setup.config.editions.values().map(spec).collect()))
}

fn next(research: &Research, setup: &Setup, described: &mizuno_config::Edition) -> Option<String> {
    research.edition_due(setup, described, research.desk.clock.now()).map(|at| at.to_string())
}

/// The editions of a spec, newest first; those that have expired or were withdrawn too.
#[utoipa::path(params(("spec" = String, Path, description = "The name of the spec")), responses((status = 200, body = Vec<mizuno_api::Edition>)))]
#[get("/api/v1/editions/{spec}")]
pub(super) async fn list_of_spec(
    research: Data<Research>,
    spec: Path<String>,
    _: Query<Nothing>,
) -> Result<Json<Vec<mizuno_api::Edition>>, Refusal> {
    let all = research.editions(Some(&spec)).await?;
    let known = &research.desk.setup().config.editions;
    if all.is_empty() && !known.contains_key(spec.as_str()) {
        return Err(DeskError::unknown("edition", &spec, known.keys().map(String::as_str)).into());
    }
    Ok(Json(all.iter().map(edition).collect()))
}

/// Makes an edition now, whatever holds. It is made in the background; `progress` says how far it is.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec")),
    request_body = MakeEdition,
    responses((status = 202, description = "It is being made", body = mizuno_api::Edition))
)]
#[post("/api/v1/editions/{spec}")]
pub(super) async fn make_edition(research: Data<Research>, spec: Path<String>, ask: Json<MakeEdition>) -> Result<HttpResponse, Refusal> {
    let by = ask.by.trim();
    if by.is_empty() {
        return Err(Refusal::invalid("by: say who asks for it; others will want to know".to_owned()));
    }
    let told = research.into_inner().make_edition(&spec, Why::Asked(by.to_owned()), None, None).await?;
    Ok(HttpResponse::Accepted().json(edition(&told)))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Expire {
    /// Only says which would be taken away.
    #[serde(default)]
    preview: bool,
}

/// Takes away the files of editions that are no longer kept, as `keep` of the spec says. Those that are pinned stay, and every record does.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec"), Expire),
    responses((status = 200, description = "Those that were, or would be, taken away", body = Vec<mizuno_api::Edition>))
)]
#[post("/api/v1/editions/{spec}/expire")]
pub(super) async fn expire_editions(
    research: Data<Research>,
    spec: Path<String>,
    ask: Query<Expire>,
) -> Result<Json<Vec<mizuno_api::Edition>>, Refusal> {
    let gone = research.expire_by_policy(&spec, ask.preview).await?;
    Ok(Json(gone.into_iter().map(|row| edition(&Told { row, progress: None })).collect()))
}

/// An edition with its files. `which` is its number, its label, or `latest`.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec"), ("which" = String, Path, description = "A number, a label, or `latest`")),
    responses((status = 200, body = EditionTold))
)]
#[get("/api/v1/editions/{spec}/{which}")]
pub(super) async fn show_edition(
    research: Data<Research>,
    path: Path<(String, String)>,
    _: Query<Nothing>,
) -> Result<Json<EditionTold>, Refusal> {
    let told = research.edition(&path.0, &path.1).await?;
    // While it is made none of them is served, and whoever watches asks often.
    let files = if told.row.state == State::Making { vec![] } else { research.edition_files(&told.row).await? };
    let bytes = |linked: bool| files.iter().filter(|f| !linked || f.linked).map(|f| f.bytes).sum();
    Ok(Json(EditionTold {
        before: research.edition_before(&told.row).await?.map(|row| row.number),
        bytes: bytes(false),
        linked_bytes: bytes(true),
        content: files.iter().map(file).collect(),
        edition: edition(&told),
    }))
}

/// Cancels an edition that is being made, keeps one from expiring, lets it expire, or withdraws it with a reason.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec"), ("which" = String, Path, description = "A number, a label, or `latest`")),
    request_body = DecideEdition,
    responses((status = 200, body = mizuno_api::Edition))
)]
#[post("/api/v1/editions/{spec}/{which}/decision")]
pub(super) async fn decide_edition(
    research: Data<Research>,
    path: Path<(String, String)>,
    ask: Json<DecideEdition>,
) -> Result<Json<mizuno_api::Edition>, Refusal> {
    let row = research.edition(&path.0, &path.1).await?.row;
    match ask.to.as_str() {
        "cancel" => research.cancel_edition(&row)?,
        "pin" => research.pin_edition(&row, Some((ask.by.clone(), ask.why.clone()))).await?,
        "unpin" => research.pin_edition(&row, None).await?,
        "withdraw" => research.withdraw_edition(&row, &ask.by, &ask.why).await?,
        other => return Err(Refusal::invalid(format!("to: `{other}` is none of cancel, pin, unpin and withdraw"))),
    }
    Ok(Json(edition(&research.edition(&path.0, &row.number.to_string()).await?)))
}

/// Holds the files of an edition against their sums; with `again` makes it once more from its record, and holds that against them too.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec"), ("which" = String, Path, description = "A number, a label, or `latest`")),
    request_body = VerifyEdition,
    responses((status = 200, body = EditionVerdict))
)]
#[post("/api/v1/editions/{spec}/{which}/verify")]
pub(super) async fn verify_edition(
    research: Data<Research>,
    path: Path<(String, String)>,
    ask: Json<VerifyEdition>,
) -> Result<Json<EditionVerdict>, Refusal> {
    let row = research.edition(&path.0, &path.1).await?.row;
    let found = research.into_inner().verify_edition(&row, ask.again).await?;
    let same = |differ: &[(String, bool)]| differ.iter().filter(|(_, same)| *same).map(|(path, _)| path.clone()).collect::<Vec<_>>();
    let same_contents = same(&found.differ);
    let may_differ = found.other_program.is_some() && same_contents.len() == found.differ.len();
    Ok(Json(EditionVerdict {
        sound: found.damaged.is_empty() && (found.differ.is_empty() || may_differ),
        files: found.files,
        damaged: found.damaged.into_iter().collect::<BTreeMap<_, _>>(),
        again: ask.again,
        differ: found.differ.into_iter().map(|(path, _)| path).collect(),
        same_contents,
        other_program: found.other_program,
    }))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct From {
    /// The older edition of the same spec: a number, a label or `latest`; the one before when left out.
    from: Option<String>,
}

/// What differs between an edition and an older one: files, and rows of each question by cause.
#[utoipa::path(
    params(("spec" = String, Path, description = "The name of the spec"), ("which" = String, Path, description = "A number, a label, or `latest`"), From),
    responses((status = 200, body = EditionDifference))
)]
#[get("/api/v1/editions/{spec}/{which}/difference")]
pub(super) async fn show_difference(
    research: Data<Research>,
    path: Path<(String, String)>,
    ask: Query<From>,
) -> Result<Json<EditionDifference>, Refusal> {
    let research = research.into_inner();
    let to = research.edition(&path.0, &path.1).await?;
    let from = match &ask.from {
        Some(which) => research.edition(&path.0, which).await?,
        None => {
            let before = research.edition_before(&to.row).await?;
            let row =
                before.ok_or_else(|| Refusal::invalid(format!("{}/{} is the first; name another one with from", path.0, to.row.number)))?;
            Told { row, progress: None }
        }
    };
    let found = research.edition_difference(&from.row, &to.row).await?;
    let (mut rows, mut commands) = (vec![], BTreeMap::new());
    for (name, question) in &found.questions {
        let file = mizuno_research::question::File::default();
        let asked = Question { since: Some(from.row.instant), as_of: Some(to.row.instant), file, ..question.clone() };
        commands.insert(name.clone(), asked.to_command());
        for change in research.changed_between(name, question, from.row.instant, to.row.instant).await? {
            rows.push(EditionChange {
                question: change.question,
                change: change.change,
                cause: change.cause,
                rows: change.rows,
                columns: change.columns,
            });
        }
    }
    Ok(Json(EditionDifference {
        from: edition(&from),
        to: edition(&to),
        new: found.new.iter().map(file).collect(),
        gone: found.gone.iter().map(file).collect(),
        changed: found.changed.iter().map(file).collect(),
        same: found.same,
        asked_otherwise: found.asked_otherwise,
        commands: commands.into_iter().filter(|(name, _)| rows.iter().any(|row| row.question == *name)).collect(),
        rows,
    }))
}

/// Bytes read from the disk at once.
const PIECE: usize = 128 << 10;

/// What an edition can no longer be read for.
fn gone(row: &EditionRow) -> Option<Refusal> {
    let name = format!("{}/{}", row.spec, row.number);
    let refusal =
        |what: String| Refusal::new(StatusCode::GONE, "gone", "It is not served any more", what).see(&format!("editions/{}", row.spec));
    match (&row.withdrawn, row.state) {
        (Some((by, why, at)), _) => Some(refusal(format!("the edition {name} was withdrawn by {by} on {at}: {why}"))),
        (None, State::Made) => None,
        (None, State::Expired) => Some(refusal(format!("the edition {name} has expired; its record is kept, and it can be made again"))),
        (None, state) => Some(Refusal::new(
            StatusCode::NOT_FOUND,
            "unknown",
            "There is no such thing",
            format!("the edition {name} is {}, and its files cannot be read", state.word()),
        )),
    }
}

/// A file of an edition, whole or in part (RFC 9110, ranges). By the edition's number it never changes; by a label or as `latest` it is
/// that of the newest edition.
#[utoipa::path(
    params(
        ("spec" = String, Path, description = "The name of the spec"),
        ("which" = String, Path, description = "A number, a label, or `latest`"),
        ("path" = String, Path, description = "The path of the file in the edition"),
    ),
    responses(
        (status = 200, description = "The file", body = Vec<u8>, content_type = "application/octet-stream"),
        (status = 206, description = "The part that was asked for", body = Vec<u8>, content_type = "application/octet-stream"),
        (status = 304, description = "Not changed since the validator sent"),
        (status = 410, description = "The edition was withdrawn, or has expired", body = mizuno_api::Problem, content_type = "application/problem+json"),
        (status = 416, description = "It has no such part", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/editions/{spec}/{which}/files/{path:.*}")]
pub(super) async fn serve_edition_file(
    research: Data<Research>,
    path: Path<(String, String, String)>,
    request: HttpRequest,
    seen: Option<Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let (spec, which, path) = path.into_inner();
    let row = research.edition(&spec, &which).await?.row;
    if let Some(refusal) = gone(&row) {
        return Err(refusal);
    }
    let path = if path.is_empty() { "index.html".to_owned() } else { path };
    // Only what was made is served: a path leads nowhere else.
    let file = research.edition_file(&row, &path).await?;
    let tag = EntityTag::new_strong(file.digest[..32].to_owned());
    let keep = if which == row.number.to_string() { "public, max-age=31536000, immutable" } else { "no-cache" };
    if has_seen(seen, &tag) {
        return Ok(HttpResponse::NotModified().insert_header(("ETag", tag.to_string())).insert_header(("Cache-Control", keep)).finish());
    }
    let total = file.bytes.unsigned_abs();
    let part = asked_for(&request, &tag, total)?;
    let on_disk = research.edition_folder(&row).join(&path);
    let unreadable = |e: std::io::Error| {
        Refusal::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "damaged",
            "The file cannot be read",
            format!("{path}: {e}; mizuno editions {spec}/{} --verify says what is wrong", row.number),
        )
    };
    let mut open = tokio::fs::File::open(&on_disk).await.map_err(unreadable)?;
    let (first, last) = part.unwrap_or((0, total.saturating_sub(1)));
    open.seek(SeekFrom::Start(first)).await.map_err(unreadable)?;
    let length = if total == 0 { 0 } else { last - first + 1 };
    let mut response = HttpResponse::build(if part.is_some() { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK });
    response
        .content_type(media_type(&path))
        .insert_header(("ETag", tag.to_string()))
        .insert_header(("Cache-Control", keep))
        .insert_header(("Accept-Ranges", "bytes"))
        .insert_header(("Mizuno-As-Of", row.instant.to_string()))
        .insert_header(("Mizuno-Edition", format!("{}/{}", row.spec, row.number)))
        // A part is a part of these bytes, and of no others.
        .insert_header(ContentEncoding::Identity)
        // The page of an edition needs nothing but itself.
        .insert_header(("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'"))
        .no_chunking(length);
    if part.is_some() {
        response.insert_header(("Content-Range", format!("bytes {first}-{last}/{total}")));
    }
    Ok(response.streaming(ReaderStream::with_capacity(open.take(length), PIECE)))
}

/// The one part of a file that is asked for, by its first and its last byte; `None` for all of it.
fn asked_for(request: &HttpRequest, tag: &EntityTag, total: u64) -> Result<Option<(u64, u64)>, Refusal> {
    use actix_web::http::header::Header as _;
    let Ok(Range::Bytes(asked)) = Range::parse(request) else { return Ok(None) };
    if request.headers().contains_key("If-Range") {
        match IfRange::parse(request) {
            Ok(IfRange::EntityTag(held)) if held.strong_eq(tag) => {}
            _ => return Ok(None),
        }
    }
    // Several parts in one answer are nowhere asked for; whoever does gets all of it, as RFC 9110 allows.
    let [one] = &asked[..] else { return Ok(None) };
    match one.to_satisfiable_range(total) {
        Some(part) => Ok(Some(part)),
        None => Err(Refusal::new(
            StatusCode::RANGE_NOT_SATISFIABLE,
            "no-such-part",
            "It has no such part",
            format!("the file has {total} bytes, and the range lies behind them"),
        )
        .with_header(actix_web::http::header::CONTENT_RANGE, format!("bytes */{total}"))),
    }
}

/// The media type of a file by the ending of its name.
fn media_type(path: &str) -> &'static str {
    match path.rsplit('.').next() {
        Some("csv") => "text/csv; charset=utf-8",
        Some("json") => "application/json",
        Some("ndjson") => "application/x-ndjson",
        Some("parquet") => "application/vnd.apache.parquet",
        Some("xlsx") => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        Some("html") => "text/html; charset=utf-8",
        _ => "text/plain; charset=utf-8",
    }
}
