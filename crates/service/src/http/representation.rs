//! What every answer has in common as HTTP sees it (RFC 9110): HEAD, validators, and methods that are not there.

use super::{Document, problem::Refusal};
use actix_web::{
    HttpRequest,
    body::{self, BodySize, BoxBody, MessageBody},
    dev::{ServiceRequest, ServiceResponse},
    http::{
        Method, StatusCode,
        header::{self, HeaderMap, HeaderValue},
    },
    middleware::Next,
};
use std::sync::LazyLock;
use utoipa::OpenApi;

/// HEAD is answered as GET is, without the body.
pub(super) async fn head_as_get(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let head = *request.method() == Method::HEAD;
    if head {
        request.head_mut().method = Method::GET;
    }
    let response = next.call(request).await?;
    Ok(if head { response.map_body(|_, _| BoxBody::new(body::None::new())) } else { response.map_into_boxed_body() })
}

/// A listing's validator is a digest of what it says; nothing is sent when it is the one that was sent along.
pub(super) async fn validate_listings(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let seen = request.headers().get(header::IF_NONE_MATCH).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let get = *request.method() == Method::GET;
    let response = next.call(request).await?.map_into_boxed_body();
    let json = response.headers().get(header::CONTENT_TYPE).is_some_and(|t| t.as_bytes().starts_with(b"application/json"));
    let whole = matches!(response.response().body().size(), BodySize::Sized(_));
    if !get || !json || !whole || response.status() != StatusCode::OK || response.headers().contains_key(header::ETAG) {
        return Ok(response);
    }
    let (request, response) = response.into_parts();
    let (response, body) = response.into_parts();
    let Ok(body) = body::to_bytes(body).await else { return Ok(ServiceResponse::new(request, response.set_body(BoxBody::new(())))) };
    let tag = format!("\"{}\"", &mizuno_store::payloads::digest(&body)[..32]);
    let same = seen.is_some_and(|seen| names(&seen, &tag));
    let mut response = if same {
        actix_web::HttpResponse::NotModified().finish().set_body(BoxBody::new(body::None::new()))
    } else {
        response.set_body(BoxBody::new(body))
    };
    set(response.headers_mut(), header::ETAG, &tag);
    Ok(ServiceResponse::new(request, response))
}

/// A strong validator is that of one coding (RFC 9110, section 8.8.3.3): what is compressed has another than what is not.
pub(super) async fn validators_by_coding(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let seen = request.headers().get(header::IF_NONE_MATCH).and_then(|v| v.to_str().ok()).map(str::to_owned);
    if let Some(seen) = &seen {
        let plain = CODINGS.iter().fold(seen.clone(), |text, coding| text.replace(&format!("-{coding}\""), "\""));
        set(request.headers_mut(), header::IF_NONE_MATCH, &plain);
    }
    let mut response = next.call(request).await?;
    let headers = response.headers();
    let of = |name| headers.get(name).and_then(|v: &HeaderValue| v.to_str().ok()).map(str::to_owned);
    let Some(tag) = of(header::ETAG) else { return Ok(response) };
    let coding = match (response.status(), seen) {
        // The validator that was sent along is the one that still holds.
        (StatusCode::NOT_MODIFIED, Some(seen)) => CODINGS.iter().find(|c| seen.contains(&format!("-{c}\""))).map(|c| (*c).to_owned()),
        _ => of(header::CONTENT_ENCODING).filter(|c| CODINGS.contains(&c.as_str())),
    };
    if let Some(coding) = coding
        && let Some(plain) = tag.strip_suffix('"')
    {
        set(response.headers_mut(), header::ETAG, &format!("{plain}-{coding}\""));
    }
    Ok(response)
}

/// The codings that answers are compressed with.
const CODINGS: [&str; 2] = ["gzip", "zstd"];

fn set(headers: &mut HeaderMap, name: header::HeaderName, value: &str) {
    if let Ok(value) = HeaderValue::from_str(value) {
        headers.insert(name, value);
    }
}

/// Whether an If-None-Match names a validator, or any.
fn names(seen: &str, tag: &str) -> bool {
    seen.split(',').map(str::trim).any(|one| one == "*" || one.trim_start_matches("W/") == tag)
}

/// The paths of the interface in their parts, each with its methods.
static PATHS: LazyLock<Vec<(Vec<String>, Vec<String>)>> = LazyLock::new(|| {
    let document = serde_json::to_value(Document::openapi()).unwrap_or_default();
    let paths = document["paths"].as_object().cloned().unwrap_or_default();
    let parts = |path: &str| path.split('/').map(str::to_owned).collect();
    let methods =
        |operations: &serde_json::Value| operations.as_object().into_iter().flat_map(|o| o.keys().map(|k| k.to_uppercase())).collect();
    paths.iter().map(|(path, operations)| (parts(path), methods(operations))).collect()
});

/// What a request comes to that nothing answers: another method than there is, or no such address.
pub(super) fn nothing_there(request: &HttpRequest) -> Refusal {
    let asked: Vec<&str> = request.path().split('/').collect();
    let fits = |parts: &[String]| parts.len() == asked.len() && parts.iter().zip(&asked).all(|(p, a)| p.starts_with('{') || p == a);
    let mut allowed: Vec<String> = PATHS.iter().filter(|(parts, _)| fits(parts)).flat_map(|(_, methods)| methods.clone()).collect();
    if allowed.is_empty() {
        let detail = format!("there is nothing at {} {}; see /api/v1/openapi.json", request.method(), request.path());
        return Refusal::new(StatusCode::NOT_FOUND, "unknown", "There is no such address", detail);
    }
    if allowed.iter().any(|m| m == "GET") {
        allowed.push("HEAD".to_owned());
    }
    let allowed = allowed.join(", ");
    let detail = format!("{} is not answered at {}; {allowed} would be", request.method(), request.path());
    Refusal::new(StatusCode::METHOD_NOT_ALLOWED, "method", "Another method", detail).with_header(header::ALLOW, allowed)
}
