//! Who may ask: requests to this service by its own name, and changes only from its own pages or from programs.

use super::problem::Refusal;
use actix_web::{
    body::MessageBody,
    dev::{ServiceRequest, ServiceResponse},
    http::{
        Method, StatusCode,
        header::{self, HeaderMap},
    },
    middleware::Next,
};

/// Refuses requests sent under another host's name, so that a web page
/// elsewhere cannot reach a loopback service through a name of its own; and
/// requests that change something when another page sent them.
///
/// Only the connection's own Host header counts: whoever can make a browser send
/// a request can add forwarding headers to it.
pub(super) async fn our_own_only(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let host = text(request.headers(), header::HOST).or(request.uri().authority().map(|a| a.as_str())).unwrap_or_default().to_owned();
    if !is_ours(name_of(&host)) {
        let detail = format!("this service answers to 127.0.0.1 and localhost, not to `{}`", name_of(&host));
        return Err(Refusal::new(StatusCode::FORBIDDEN, "host", "Another host's name", detail).into());
    }
    if !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS)
        && let Some(page) = foreign_page(request.headers(), &host)
    {
        let detail = format!("a page of {page} may not change anything here; use the console of this service, or a program");
        return Err(Refusal::new(StatusCode::FORBIDDEN, "foreign-page", "A request from another page", detail).into());
    }
    next.call(request).await
}

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// A host's name without its port.
fn name_of(host: &str) -> &str {
    host.rsplit_once(':').filter(|(_, port)| port.chars().all(|c| c.is_ascii_digit())).map_or(host, |(name, _)| name)
}

fn is_ours(name: &str) -> bool {
    ["127.0.0.1", "localhost", "[::1]"].iter().any(|ours| name.eq_ignore_ascii_case(ours))
}

/// The page that sent a request, when it is not one of ours. Browsers say so in `Origin` and `Sec-Fetch-Site`; programs say neither.
fn foreign_page(headers: &HeaderMap, host: &str) -> Option<String> {
    let origin = text(headers, header::ORIGIN);
    if let Some(origin) = origin.filter(|o| o.strip_prefix("http://").is_none_or(|o| !o.eq_ignore_ascii_case(host))) {
        return Some(format!("`{origin}`"));
    }
    let site = headers.get("Sec-Fetch-Site").map(|v| v.to_str().unwrap_or_default());
    site.filter(|site| !["same-origin", "none"].contains(site)).map(|_| "another site".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_pages_and_programs_may_change_something() {
        let foreign = |headers: &[(&'static str, &'static str)]| {
            let map = headers.iter().map(|(n, v)| (n.parse().unwrap(), v.parse().unwrap())).collect::<HeaderMap>();
            foreign_page(&map, "127.0.0.1:7400").is_some()
        };
        assert!(!foreign(&[]), "a program");
        assert!(!foreign(&[("origin", "http://127.0.0.1:7400"), ("sec-fetch-site", "same-origin")]), "the console");
        assert!(foreign(&[("origin", "http://evil.example"), ("sec-fetch-site", "cross-site")]));
        assert!(foreign(&[("origin", "null")]), "a page that hides where it is from");
        assert!(foreign(&[("origin", "http://127.0.0.1:9999")]), "another program's page on this machine");
        assert!(foreign(&[("sec-fetch-site", "same-site")]));
    }

    #[test]
    fn names_are_those_of_loopback() {
        for ours in ["127.0.0.1:7400", "localhost", "LOCALHOST:80", "[::1]:7400"] {
            assert!(is_ours(name_of(ours)), "{ours}");
        }
        for other in ["evil.example", "localhost.evil.example", "127.0.0.1.evil.example:7400", "", "[::2]"] {
            assert!(!is_ours(name_of(other)), "{other}");
        }
    }
}
