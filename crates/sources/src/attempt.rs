//! One request, one answer, within bounds.

use crate::{
    Failure,
    failure::{Class, excerpt},
};
use mizuno_config::{Profile, profile::Limits};
use mizuno_core::Timestamp;
use reqwest::{Response, StatusCode, header, redirect};
use std::{error::Error, time::Duration};

/// What one request came to.
pub(crate) struct Attempt {
    pub status: Option<u16>,
    pub body: Option<Vec<u8>>,
    /// How long the source asks us to wait, in microseconds.
    pub retry_after: Option<i64>,
    /// The answer's media type, or why it cannot be used.
    pub result: Result<Option<String>, Failure>,
}

/// A client for one source: no redirects, bounded time, no cookies.
pub(crate) fn client(profile: &Profile) -> Result<reqwest::Client, Failure> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .user_agent(concat!("mizuno/", env!("CARGO_PKG_VERSION")))
        .redirect(redirect::Policy::none())
        .timeout(Duration::from_micros(profile.limits.timeout.unsigned_abs()))
        .build()
        .map_err(|e| Failure::new(Class::Tls, format!("cannot set up a client: {e}")))
}

pub(crate) async fn send(http: &reqwest::Client, limits: &Limits, url: &str, now: Timestamp) -> Attempt {
    let mut attempt = Attempt { status: None, body: None, retry_after: None, result: Ok(None) };
    let mut response = match http.get(url).send().await {
        Ok(response) => response,
        Err(e) => {
            attempt.result = Err(broken(&e));
            return attempt;
        }
    };
    attempt.status = Some(response.status().as_u16());
    attempt.retry_after = retry_after(&response, now);
    let media_type = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let location = response.headers().get(header::LOCATION).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let most = limits.largest_answer_mib as usize * 1024 * 1024;
    let mut body = vec![];
    attempt.result = loop {
        match response.chunk().await {
            Ok(Some(chunk)) if body.len() + chunk.len() > most => {
                break Err(Failure::new(
                    Class::TooLarge,
                    format!("the answer is larger than {} MiB, the profile's largest_answer_mib", limits.largest_answer_mib),
                ));
            }
            Ok(Some(chunk)) => body.extend_from_slice(&chunk),
            Ok(None) => break judge(response.status(), location.as_deref(), &body).map(|()| media_type),
            Err(e) => break Err(broken(&e)),
        }
    };
    attempt.body = Some(body);
    attempt
}

fn judge(status: StatusCode, location: Option<&str>, body: &[u8]) -> Result<(), Failure> {
    let says = || format!("the source answered {status}: {}", excerpt(body));
    let class = match status.as_u16() {
        200..=299 if body.is_empty() => {
            return Err(Failure::new(Class::Empty, format!("the source answered {status} with no bytes at all")));
        }
        200..=299 => return Ok(()),
        300..=399 => {
            let to = location.unwrap_or("nowhere");
            return Err(Failure::new(Class::Redirected, format!("the source sends us to {to}; put the right address into the profile")));
        }
        401 | 403 => Class::Denied,
        404 | 410 => Class::NotFound,
        429 => Class::TooMany,
        400..=499 => Class::Refused,
        _ => Class::ServerError,
    };
    Err(Failure::new(class, says()))
}

/// Classes a failure of the connection by what lies under it.
fn broken(error: &reqwest::Error) -> Failure {
    let mut deepest: &dyn Error = error;
    let mut chain = String::new();
    while let Some(source) = deepest.source() {
        deepest = source;
        chain.push_str(&source.to_string().to_lowercase());
    }
    let class = if error.is_timeout() {
        Class::TimedOut
    } else if chain.contains("dns") || chain.contains("lookup") {
        Class::NameNotResolved
    } else if chain.contains("certificate") || chain.contains("tls") || chain.contains("handshake") {
        Class::Tls
    } else if error.is_body() || error.is_decode() {
        Class::CutShort
    } else {
        Class::Unreachable
    };
    let what = match class {
        Class::TimedOut => "no whole answer in time",
        Class::CutShort => "the answer broke off",
        Class::Tls => "the secure connection failed",
        Class::NameNotResolved => "the host's name is not known",
        _ => "no connection",
    };
    Failure::new(class, format!("{what}: {deepest}"))
}

/// Retry-After in both its forms (RFC 9110, section 10.2.3), in microseconds from `now`.
fn retry_after(response: &Response, now: Timestamp) -> Option<i64> {
    let text = response.headers().get(header::RETRY_AFTER)?.to_str().ok()?;
    let wait = match text.parse::<i64>() {
        Ok(seconds) => seconds.saturating_mul(1_000_000),
        Err(_) => {
            let at = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
            Timestamp::from(at).0 - now.0
        }
    };
    Some(wait.clamp(0, 3_600_000_000))
}
