//! Refusals, as problem details (RFC 9457).

use actix_web::{
    HttpResponse, ResponseError,
    error::JsonPayloadError,
    http::{StatusCode, header::HeaderName},
};
use mizuno_api::Problem;
use mizuno_desk::DeskError;
use mizuno_store::StoreError;
use std::fmt;

/// A request that is not granted.
#[derive(Debug)]
pub(crate) struct Refusal {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
    /// Where to look, as a path of the interface.
    see: Option<Box<str>>,
    header: Option<Box<(HeaderName, String)>>,
}

impl Refusal {
    pub(crate) fn new(status: StatusCode, kind: &'static str, title: &'static str, detail: String) -> Refusal {
        Refusal { status, kind, title, detail, see: None, header: None }
    }

    /// The same, with a place to look at: `gaps` for /api/v1/gaps.
    pub(crate) fn see(self, what: &str) -> Refusal {
        Refusal { see: Some(format!("/api/v1/{what}").into()), ..self }
    }

    pub(crate) fn with_header(self, name: HeaderName, value: String) -> Refusal {
        Refusal { header: Some(Box::new((name, value))), ..self }
    }

    pub(crate) fn invalid(detail: String) -> Refusal {
        Refusal::new(StatusCode::BAD_REQUEST, "invalid", "The request cannot be understood", detail)
    }
}

impl From<DeskError> for Refusal {
    fn from(error: DeskError) -> Refusal {
        let detail = error.to_string();
        match error {
            DeskError::Unknown { see, .. } => {
                let refusal = Refusal::new(StatusCode::NOT_FOUND, "unknown", "There is no such thing", detail);
                if see.is_empty() { refusal } else { refusal.see(see) }
            }
            DeskError::Store(StoreError::Unknown { .. }) => {
                Refusal::new(StatusCode::NOT_FOUND, "unknown", "There is no such thing", detail)
            }
            DeskError::Over(_) => Refusal::new(StatusCode::CONFLICT, "over", "It is over already", detail),
            DeskError::NotAllowed(_) => Refusal::new(StatusCode::FORBIDDEN, "not-allowed", "That is not allowed", detail),
            DeskError::Invalid(_) | DeskError::Configuration { .. } | DeskError::Unreadable { .. } => Refusal::invalid(detail),
            DeskError::Busy { run, .. } => {
                Refusal::new(StatusCode::CONFLICT, "busy", "It is being done already", detail).see(&format!("runs/{run}"))
            }
            DeskError::Stopping => Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "stopping", "The service is shutting down", detail),
            DeskError::Store(StoreError::NotWriting { .. }) => {
                Refusal::new(StatusCode::INSUFFICIENT_STORAGE, "not-writing", "Nothing can be written at the moment", detail)
            }
            DeskError::File { source, .. } if source.kind() == std::io::ErrorKind::StorageFull => {
                Refusal::new(StatusCode::INSUFFICIENT_STORAGE, "disk-full", "The disk is full", detail)
            }
            DeskError::Store(StoreError::DiskFull) => {
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
        DeskError::from(error).into()
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
            see: self.see.as_deref().map(str::to_owned),
        };
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let mut response = HttpResponse::build(self.status);
        response.content_type("application/problem+json");
        if let Some((name, value)) = self.header.as_deref() {
            response.insert_header((name.clone(), value.clone()));
        }
        response.body(body)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::{error::Error, io, path::Path};

    #[test]
    fn a_file_that_has_no_room_is_answered_as_a_full_disk_with_the_way_out() {
        let error = DeskError::file(Path::new("editions/monthly/3.csv"), io::ErrorKind::StorageFull.into());
        let source = error.source().and_then(|source| source.downcast_ref::<io::Error>());
        assert_eq!(source.map(io::Error::kind), Some(io::ErrorKind::StorageFull));
        let refusal = Refusal::from(error);
        assert_eq!((refusal.status, refusal.kind), (StatusCode::INSUFFICIENT_STORAGE, "disk-full"));
        assert_eq!(refusal.detail, "editions/monthly/3.csv: the disk is full; make room, and try again");
    }
}
