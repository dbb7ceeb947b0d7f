//! HTTP and HTTPS.

use super::{Attempt, Call};
use crate::{
    Failure,
    failure::{Class, excerpt},
};
use mizuno_config::{Profile, profile::Limits};
use mizuno_core::Timestamp;
use reqwest::{Response, StatusCode, header, redirect};
use std::{error::Error, time::Duration};

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

pub(super) async fn send(http: &reqwest::Client, limits: &Limits, call: &Call, now: Timestamp) -> Attempt {
    let mut request = match &call.body {
        None => http.get(&call.url),
        Some(body) => http.post(&call.url).header(header::CONTENT_TYPE, "application/json").body(body.clone()),
    };
    if let Some((name, value)) = &call.header {
        request = request.header(name, value);
    }
    if let Some((user, password)) = &call.login {
        request = request.basic_auth(user, Some(password));
    }
    let mut attempt = Attempt::answered(None);
    let mut response = match request.send().await {
        Ok(response) => response,
        Err(e) => return Attempt { failure: Some(broken(&e)), ..attempt },
    };
    attempt.status = Some(response.status().as_u16());
    attempt.retry_after = retry_after(&response, now);
    let text = |name: header::HeaderName| response.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    attempt.media_type = text(header::CONTENT_TYPE);
    attempt.next = response.headers().get_all(header::LINK).iter().filter_map(|v| v.to_str().ok()).find_map(next_link);
    let location = text(header::LOCATION);
    let most = limits.largest_answer();
    let mut body = Vec::with_capacity(response.content_length().map_or(0, |n| (n as usize).min(most)));
    attempt.failure = loop {
        match response.chunk().await {
            Ok(Some(chunk)) if body.len() + chunk.len() > most => {
                break Some(Failure::new(
                    Class::TooLarge,
                    format!("the answer is larger than {} MiB, the profile's largest_answer_mib", limits.largest_answer_mib),
                ));
            }
            Ok(Some(chunk)) => body.extend_from_slice(&chunk),
            Ok(None) => break judge(response.status(), location.as_deref(), &body).err(),
            Err(e) => break Some(broken(&e)),
        }
    };
    attempt.body = Some(body);
    attempt
}

/// The target of `rel="next"` in a Link header (RFC 8288).
fn next_link(header: &str) -> Option<String> {
    for part in header.split('<').skip(1) {
        let (target, parameters) = part.split_once('>')?;
        let is_next = parameters.split(';').any(|p| {
            let value = p.trim().strip_prefix("rel=").map(|v| v.trim_end_matches(',').trim().trim_matches('"').to_owned());
            value.is_some_and(|v| v.split(' ').any(|rel| rel.eq_ignore_ascii_case("next")))
        });
        if is_next {
            return Some(target.to_owned());
        }
    }
    None
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
            return Err(Failure::new(
                Class::Redirected,
                format!(
                    "the source sends us to {to}, as to a page that asks to log in or to wait; if it does so always, put that address into the profile"
                ),
            ));
        }
        401 | 403 => Class::Denied,
        404 | 410 => Class::NotFound,
        // The request may be repeated as it is (RFC 9110, section 15.5.9).
        408 => Class::TimedOut,
        429 => Class::TooMany,
        400..=499 => Class::Refused,
        _ => Class::ServerError,
    };
    Err(Failure::new(class, says()))
}

/// Whether an error is one of TLS, however often it is wrapped into one of the system.
fn is_of_tls(error: &(dyn Error + 'static)) -> bool {
    let inner = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
    error.is::<rustls::Error>() || inner.is_some_and(|e| is_of_tls(e))
}

/// Classes a failure of the connection by what lies under it.
fn broken(error: &reqwest::Error) -> Failure {
    let mut deepest: &dyn Error = error;
    let (mut chain, mut insecure) = (String::new(), false);
    while let Some(source) = deepest.source() {
        deepest = source;
        insecure |= is_of_tls(source);
        chain.push_str(&source.to_string().to_lowercase());
    }
    let class = if error.is_timeout() {
        Class::TimedOut
    } else if chain.contains("dns") || chain.contains("lookup") {
        Class::NameNotResolved
    } else if insecure || chain.contains("certificate") || chain.contains("tls") || chain.contains("handshake") {
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

/// Retry-After in both its forms (RFC 9110, section 10.2.3), in microseconds from the answer's own date, or from `now` where it has none.
fn retry_after(response: &Response, now: Timestamp) -> Option<i64> {
    let text = response.headers().get(header::RETRY_AFTER)?.to_str().ok()?;
    let wait = match text.parse::<i64>() {
        Ok(seconds) => seconds.saturating_mul(1_000_000),
        Err(_) => {
            // The source's clock need not be ours: its own date says how long it means.
            let instant = |text: &str| jiff::fmt::rfc2822::parse(text).ok().map(|z| Timestamp::from(z.timestamp()));
            let sent = response.headers().get(header::DATE).and_then(|d| d.to_str().ok()).and_then(instant);
            instant(text)?.0 - sent.unwrap_or(now).0
        }
    };
    Some(wait.clamp(0, 3_600_000_000))
}

#[cfg(test)]
mod tests {
    use super::next_link;

    #[test]
    fn the_next_page_is_found_among_links() {
        let header = "</bars?page=1>; rel=\"prev\", </bars?page=3>; title=\"more\"; rel=\"next last\"";
        assert_eq!(next_link(header).as_deref(), Some("/bars?page=3"));
        assert_eq!(next_link("</bars?page=3>; rel=next").as_deref(), Some("/bars?page=3"));
        assert_eq!(next_link("</bars?page=1>; rel=\"prev\""), None);
        assert_eq!(next_link("nonsense"), None);
    }
}
