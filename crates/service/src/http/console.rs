//! The console's files, built from `console/` and carried in the binary.

use super::problem::Refusal;
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

const NOT_BUILT: &str = "<!doctype html><title>Mizuno</title><p>The console was not built into this binary. Run <code>make console</code> and build again; the network interface is at <a href=/api/v1/status>/api/v1/status</a>.";

/// A file of the console; its pages are all the one document, which finds its way by the address.
pub(super) async fn page(request: HttpRequest) -> Result<HttpResponse, Refusal> {
    let path = request.path().trim_start_matches('/');
    if path.starts_with("api/") || request.method() != "GET" {
        return Err(super::representation::nothing_there(&request));
    }
    if let Some(file) = Files::get(path) {
        // Names under assets/ carry a digest of their contents.
        let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
        let media_type = file.metadata.mimetype().to_owned();
        return Ok(HttpResponse::Ok().content_type(media_type).insert_header(("Cache-Control", keep)).body(file.data.into_owned()));
    }
    let document = Files::get("index.html").map_or_else(|| NOT_BUILT.as_bytes().to_vec(), |f| f.data.into_owned());
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").insert_header(("Cache-Control", "no-cache")).body(document))
}
