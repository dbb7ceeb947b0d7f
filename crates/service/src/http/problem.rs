//! Refusals, as problem details (RFC 9457).

use crate::error::ServiceError;
use actix_web::{
    HttpResponse, ResponseError,
    body::MessageBody,
    dev::{ServiceRequest, ServiceResponse},
    error::JsonPayloadError,
    http::StatusCode,
    middleware::Next,
};
use mizuno_api::Problem;
use mizuno_store::StoreError;
use std::fmt;

/// A request that is not granted.
#[derive(Debug)]
pub(crate) struct Refusal {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
}

impl Refusal {
    pub(crate) fn new(status: StatusCode, kind: &'static str, title: &'static str, detail: String) -> Refusal {
        Refusal { status, kind, title, detail }
    }

    pub(crate) fn invalid(detail: String) -> Refusal {
        Refusal::new(StatusCode::BAD_REQUEST, "invalid", "The request cannot be understood", detail)
    }
}

impl From<ServiceError> for Refusal {
    fn from(error: ServiceError) -> Refusal {
        let detail = error.to_string();
        match error {
            ServiceError::Unknown { .. } | ServiceError::Store(StoreError::Unknown { .. }) => {
                Refusal::new(StatusCode::NOT_FOUND, "unknown", "There is no such thing", detail)
            }
            ServiceError::Invalid(_) => Refusal::invalid(detail),
            ServiceError::Busy { .. } => Refusal::new(StatusCode::CONFLICT, "busy", "It is being done already", detail),
            ServiceError::Stopping => Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "stopping", "The service is shutting down", detail),
            ServiceError::Store(StoreError::DiskFull) => {
                Refusal::new(StatusCode::INSUFFICIENT_STORAGE, "disk-full", "The disk is full", detail)
            }
            _ => {
                tracing::error!(error = detail, "a request failed");
                Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "The service failed", detail)
            }
        }
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Refusal {
        ServiceError::from(error).into()
    }
}

impl From<JsonPayloadError> for Refusal {
    fn from(error: JsonPayloadError) -> Refusal {
        match error {
            JsonPayloadError::Overflow { limit } | JsonPayloadError::OverflowKnownLength { limit, .. } => {
                let detail = format!("the body is larger than {limit} bytes, the most that is taken; ask for less at a time");
                Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "The request is too large", detail)
            }
            JsonPayloadError::ContentType => {
                let detail = "the body must be JSON; send it with Content-Type: application/json".to_owned();
                Refusal::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "not-json", "The body is not JSON", detail)
            }
            other => Refusal::invalid(format!("the body cannot be read: {other}")),
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Refusal {
    fn status_code(&self) -> StatusCode {
        self.status
    }

    fn error_response(&self) -> HttpResponse {
        let problem = Problem {
            kind: format!("/problems/{}", self.kind),
            title: self.title.to_owned(),
            status: self.status.as_u16(),
            detail: self.detail.clone(),
        };
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        HttpResponse::build(self.status).content_type("application/problem+json").body(body)
    }
}

/// Refuses requests sent under another host's name, so that a web page
/// elsewhere cannot reach a loopback service through a name of its own.
pub(crate) async fn only_our_own_host(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let host = request.connection_info().host().to_owned();
    let name = host.rsplit_once(':').filter(|(_, port)| port.chars().all(|c| c.is_ascii_digit())).map_or(host.as_str(), |(n, _)| n);
    if ["127.0.0.1", "localhost", "[::1]"].contains(&name) {
        return next.call(request).await;
    }
    let detail = format!("this service answers to 127.0.0.1 and localhost, not to `{name}`");
    Err(Refusal::new(StatusCode::FORBIDDEN, "host", "Another host's name", detail).into())
}
