//! Bars as a picture.

use super::{bars, problem::Refusal, seats::Seats};
use actix_web::{
    HttpRequest, HttpResponse, get,
    http::header::{self, EntityTag, IfNoneMatch},
    web::{Data, Header},
};
use mizuno_desk::DeskError;
use mizuno_research::{Research, drawing::Canvas, question::given::Given};
use utoipa::IntoParams;

/// How a picture is drawn. Beside these it takes the keys of a question that say whose bars, which range, and how they are adjusted or made
/// coarser; `fit` is chosen by the width.
#[derive(IntoParams)]
#[into_params(parameter_in = Query)]
#[allow(dead_code, reason = "it describes the keys; they are read one by one")]
struct PictureKeys {
    /// Symbols of instruments, parted by commas: one is drawn as candles, several as lines on a common base.
    instruments: Option<String>,
    /// Name of one series instead, as in `KBF/1m/golden`.
    series: Option<String>,
    /// `png` (also when left out) or `svg`.
    format: Option<String>,
    /// Pixels, 320 to 4000; 1280 when left out.
    width: Option<u32>,
    /// Pixels, 240 to 3000; 800 when left out.
    height: Option<u32>,
    /// `true` for light on dark.
    dark: Option<bool>,
}

/// The value of a key, taken out.
fn take(pairs: &mut Vec<(String, String)>, key: &str) -> Option<String> {
    let at = pairs.iter().position(|(known, _)| known == key)?;
    Some(pairs.remove(at).1)
}

fn pixels(pairs: &mut Vec<(String, String)>, key: &str, usual: u32) -> Result<u32, Refusal> {
    match take(pairs, key) {
        None => Ok(usual),
        Some(text) => text.parse().map_err(|_| Refusal::invalid(format!("{key}: `{text}` is no number of pixels"))),
    }
}

/// One series as candles with what was traded and its corporate actions, or several as lines that are 100 where all begin.
#[utoipa::path(
    params(PictureKeys),
    responses(
        (status = 200, description = "The picture", content((Vec<u8> = "image/png"), (String = "image/svg+xml"))),
        (status = 304, description = "Not changed since the validator sent"),
        (status = 404, description = "No such instrument or series", body = mizuno_api::Problem, content_type = "application/problem+json"),
        (status = 503, description = "Too many questions at once; Retry-After says when to ask again", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/picture")]
pub(super) async fn draw(
    research: Data<Research>,
    seats: Data<Seats>,
    request: HttpRequest,
    seen: Option<Header<IfNoneMatch>>,
) -> Result<HttpResponse, Refusal> {
    let research = research.into_inner();
    let mut pairs = bars::pairs(&request)?;
    let svg = match take(&mut pairs, "format").as_deref() {
        None | Some("png") => false,
        Some("svg") => true,
        Some(other) => return Err(Refusal::invalid(format!("format: `{other}` is no format of a picture; it is png or svg"))),
    };
    let dark = match take(&mut pairs, "dark").as_deref() {
        None | Some("false") => false,
        Some("true") => true,
        Some(other) => return Err(Refusal::invalid(format!("dark: `{other}` is neither true nor false"))),
    };
    let size = (pixels(&mut pairs, "width", 1280)?, pixels(&mut pairs, "height", 800)?);
    let venue_clock = pairs.iter().all(|(key, _)| key != "zone");
    let canvas = Canvas { size, dark, svg, venue_clock };
    let question = bars::read(&research, Given::from_pairs(pairs).map_err(Refusal::invalid)?).await?;
    let question = question.to_draw(canvas).map_err(bars::refused)?;
    let seat = seats.take(bars::client(&request), true).await?;
    let _turn = seat.turn().await;
    let sketch = research.sketch(question, canvas).await?;
    let tag = EntityTag::new_strong(sketch.validator());
    if bars::has_seen(seen, &tag) {
        return Ok(HttpResponse::NotModified().insert_header(header::ETag(tag)).finish());
    }
    let instant = sketch.instant();
    let picture = sketch.picture().await?;
    let drawing = research.desk.hands.spawn(async move { if svg { picture.svg().map(String::into_bytes) } else { picture.png() } });
    let bytes = drawing.await.map_err(|e| DeskError::fault("drawing the picture", e))?;
    let bytes = bytes.map_err(|e| Refusal::invalid(e.to_string()))?;
    let mut response = HttpResponse::Ok();
    response.insert_header(header::ETag(tag)).insert_header(("Mizuno-As-Of", instant.to_string()));
    // What is drawn is looked at in a page: nothing in it may run there.
    response.insert_header(("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'"));
    Ok(response.content_type(if svg { "image/svg+xml" } else { "image/png" }).body(bytes))
}
