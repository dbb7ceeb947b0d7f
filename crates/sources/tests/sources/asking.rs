//! Asking as a profile says: pages, parts, bodies, keys and logins, files in folders; and what failing looks like.

use crate::common::{self, BODY, CSV, JSON, PLAIN, Server, ask, ask_for, at_work, days, profile, rows, shown, work};
use actix_web::HttpResponse;
use mizuno_core::{Interval, Side};
use mizuno_sources::{Class, Standing};
use serde_json::json;
use std::path::Path;

#[actix_web::test]
async fn pages_are_followed_by_cursor_by_number_and_by_link() {
    let server = Server::start(|heard, _| match heard.target.split("cursor=").nth(1) {
        Some("two") => HttpResponse::Ok().json(json!({ "rows": rows(3..4), "more": { "at": "" } })),
        _ => HttpResponse::Ok().json(json!({ "rows": rows(1..3), "more": { "at": "two" } })),
    });
    let request = "[[series.request]]\nget = \"/b{?symbol,cursor}\"\npages = { cursor = { at = \"/more/at\", variable = \"cursor\" } }\n";
    let asked = ask(&work(profile(&server.base, "", request, JSON))).await;
    assert_eq!((asked.outcome.unwrap().rows, asked.attempts, asked.pages.len()), (3, 2, 2));
    assert_eq!(server.targets(), ["/b?symbol=KBF&cursor=", "/b?symbol=KBF&cursor=two"]);

    let server = Server::start(|heard, _| {
        let page: u32 = heard.target.rsplit('=').next().unwrap().parse().unwrap();
        HttpResponse::Ok().json(json!({ "rows": rows(page * 2 - 1..(page * 2 + 1).min(6)) }))
    });
    let request = "[[series.request]]\nget = \"/b{?page}\"\npages = { number = { variable = \"page\", first = 1, full = 2 } }\n";
    let asked = ask(&work(profile(&server.base, "", request, JSON))).await;
    assert_eq!(asked.outcome.unwrap().rows, 5);
    assert_eq!(server.targets(), ["/b?page=1", "/b?page=2", "/b?page=3"], "the first page that is not full is the last");

    let server = Server::start(|heard, _| match heard.target.as_str() {
        "/b" => HttpResponse::Ok().insert_header(("Link", "</b?after=2>; rel=\"next\"")).json(json!({ "rows": rows(1..3) })),
        _ => HttpResponse::Ok().json(json!({ "rows": rows(3..5) })),
    });
    let request = "[[series.request]]\nget = \"/b\"\npages = { link = {} }\n";
    assert_eq!(ask(&work(profile(&server.base, "", request, JSON))).await.outcome.unwrap().rows, 4);
    assert_eq!(server.targets(), ["/b", "/b?after=2"]);

    let elsewhere = Server::start(|_, _| {
        HttpResponse::Ok().insert_header(("Link", "<http://203.0.113.1/b>; rel=next")).json(json!({ "rows": rows(1..3) }))
    });
    let refused = ask(&work(profile(&elsewhere.base, "", request, JSON))).await.outcome.unwrap_err();
    assert!(refused.class == Class::Redirected && refused.message.contains("another host"), "{refused}");
}

#[actix_web::test]
async fn full_answers_are_asked_on_from_by_moving_the_range() {
    // Three rows at most, the newest of what was asked.
    let server = Server::start(|heard, _| {
        let part = |name: &str| -> u32 { heard.target.split(&format!("{name}=2025-04-")).nth(1).unwrap()[..2].parse().unwrap() };
        let (from, to) = (part("from"), part("to"));
        HttpResponse::Ok().json(json!({ "rows": rows(from.max(to.saturating_sub(2))..to + 1) }))
    });
    let request = format!("{PLAIN}pages = {{ older = {{ full = 3 }} }}\n");
    let asked = ask(&work(profile(&server.base, "", &request, JSON))).await;
    let mut found = shown(&asked.outcome.unwrap());
    found.sort();
    assert_eq!((found.len(), &found[0][..10], asked.pages.len()), (9, "2025-04-01", 3));
    assert_eq!(server.targets()[1], "/KBF?from=2025-04-01&to=2025-04-06");

    let server = Server::start(|heard, _| {
        let from: u32 = heard.target.split("from=2025-04-").nth(1).unwrap()[..2].parse().unwrap();
        HttpResponse::Ok().json(json!({ "rows": rows(from..(from + 4).min(10)) }))
    });
    let request = format!("{PLAIN}pages = {{ newer = {{ full = 4 }} }}\n");
    assert_eq!(ask(&work(profile(&server.base, "", &request, JSON))).await.outcome.unwrap().rows, 9);
}

#[actix_web::test]
async fn a_question_may_be_posted_as_json() {
    let server = Server::start(|heard, _| match heard.method.as_str() {
        "POST" => HttpResponse::Ok().json(json!({ "rows": rows(8..9) })),
        _ => HttpResponse::MethodNotAllowed().finish(),
    });
    let request = "[[series.request]]\npost = \"/query\"\nbody = { what = { symbol = \"{symbol}\", span = [\"{from}\", \"{to}\"] }, n = 5 }\nstamps = \"%Y-%m-%d\"\nto_included = true\n";
    let asked = ask(&work(profile(&server.base, "", request, JSON))).await;
    assert_eq!(asked.outcome.unwrap().rows, 1);
    let body: serde_json::Value = serde_json::from_str(&server.asked.lock().unwrap()[0].body).unwrap();
    assert_eq!(body, json!({ "what": { "symbol": "KBF", "span": ["2025-04-01", "2025-04-09"] }, "n": 5 }));
}

#[actix_web::test]
async fn keys_are_carried_in_header_query_or_basic_and_never_shown() {
    // A source that repeats the key it was given, in its answer.
    let echo = || Server::start(|heard, _| HttpResponse::Ok().body(format!("{BODY}# {} {:?}\n", heard.target, heard.header)));
    let answer = format!("comment = \"#\"\n{CSV}");
    for (key, place) in [
        ("[key]\nenv = \"MIZUNO_T_KEY\"\nheader = \"X-Key\"\nprefix = \"Token \"", "Token hush-hush/1"),
        ("[key]\nenv = \"MIZUNO_T_KEY\"\nquery = \"apikey\"", "apikey=hush-hush%2F1"),
        ("[key]\nenv = \"MIZUNO_T_KEY\"\nuser_env = \"MIZUNO_T_USER\"\nbasic = true", "Basic bWVyZTpodXNoLWh1c2gvMQ=="),
    ] {
        let server = echo();
        let source = at_work(
            profile(&server.base, key, PLAIN, &answer),
            &[("MIZUNO_T_KEY", "hush-hush/1"), ("MIZUNO_T_USER", "mere")],
            Path::new("."),
        );
        let asked = ask(&source).await;
        let heard = server.asked.lock().unwrap()[0].clone();
        assert!(format!("{} {:?}", heard.target, heard.header).contains(place), "{heard:?}");
        let kept = format!("{asked:?} {}", String::from_utf8_lossy(asked.pages[0].body.as_ref().unwrap()));
        for secret in ["hush-hush", "bWVyZTpodXNo"] {
            assert!(!kept.contains(secret), "{kept}");
        }
        assert!(kept.contains("***") && asked.outcome.unwrap().rows == 2);
    }
    let server = echo();
    let required = "[key]\nenv = \"MIZUNO_T_NONE\"\nheader = \"X-Key\"\nrequired = true";
    let refused = ask(&work(profile(&server.base, required, PLAIN, CSV))).await.outcome.unwrap_err();
    assert!(refused.class == Class::NoKey && refused.message.contains("MIZUNO_T_NONE is not set"), "{refused}");
    assert!(server.targets().is_empty(), "nothing is asked without it");
}

#[actix_web::test]
async fn a_token_is_obtained_by_a_login_used_again_and_renewed() {
    let server = Server::start(|heard, n| match heard.target.as_str() {
        "/login" if heard.body.contains("open sesame") => HttpResponse::Ok().json(json!({ "token": format!("token-{n}"), "life": 3600 })),
        "/login" => HttpResponse::Forbidden().body("who is open sesame?"),
        _ if n == 4 => HttpResponse::Unauthorized().body("expired"),
        _ => HttpResponse::Ok().body(BODY),
    });
    let key = "[key]\nenv = \"MIZUNO_T_PASS\"\nuser_env = \"MIZUNO_T_USER\"\nheader = \"Authorization\"\nprefix = \"Bearer \"\nlogin = { post = \"/login\", body = { name = \"{user}\", word = \"{key}\" }, token = \"/token\", lasts = \"/life\" }";
    let secrets = [("MIZUNO_T_PASS", "open sesame"), ("MIZUNO_T_USER", "mere")];
    let source = at_work(profile(&server.base, key, PLAIN, CSV), &secrets, Path::new("."));
    for _ in 0..3 {
        assert!(ask(&source).await.outcome.is_ok());
    }
    let carried: Vec<_> = server.asked.lock().unwrap().iter().map(|h| h.header.clone().unwrap_or_default()).collect();
    assert_eq!(
        carried,
        ["", "Bearer token-1", "Bearer token-1", "Bearer token-1", "", "Bearer token-5"],
        "a token that is refused is renewed once"
    );

    let wrong =
        at_work(profile(&server.base, key, PLAIN, CSV), &[("MIZUNO_T_PASS", "open barley"), ("MIZUNO_T_USER", "mere")], Path::new("."));
    let refused = ask(&wrong).await.outcome.unwrap_err();
    assert!(refused.class == Class::Denied && refused.message.contains("the login failed"), "{refused}");
}

#[actix_web::test]
async fn every_class_of_failure_has_its_words() {
    type Say = fn(&common::Heard, usize) -> HttpResponse;
    let cases: [(Class, &str, u32, Say); 14] = [
        (Class::Denied, "answered 401", 1, |_, _| HttpResponse::Unauthorized().body("no key")),
        (Class::Denied, "answered 403", 1, |_, _| HttpResponse::Forbidden().body("not yours")),
        (Class::NotFound, "answered 404", 1, |_, _| HttpResponse::NotFound().body("no such symbol")),
        (Class::Refused, "answered 400", 1, |_, _| HttpResponse::BadRequest().body("dates?")),
        (Class::TooMany, "answered 429", 3, |_, _| HttpResponse::TooManyRequests().insert_header(("Retry-After", "1")).body("slowly")),
        (Class::TimedOut, "answered 408", 3, |_, _| HttpResponse::RequestTimeout().finish()),
        (Class::ServerError, "answered 503", 3, |_, _| HttpResponse::ServiceUnavailable().body("asleep")),
        (Class::Redirected, "sends us to /login", 3, |_, _| HttpResponse::Found().insert_header(("Location", "/login")).finish()),
        (Class::WrongContent, "got a web page", 3, |_, _| HttpResponse::Ok().body("<!doctype html><p>sorry")),
        (Class::CutShort, "broke off", 3, |_, _| {
            // Half a line, and a moment later the end of the connection.
            let pieces = futures_util::stream::unfold(0, |n| async move {
                tokio::time::sleep(std::time::Duration::from_millis(30 * n)).await;
                match n {
                    0 => Some((Ok(actix_web::web::Bytes::from("date,o,h")), 1)),
                    _ => Some((Err(std::io::Error::other("gone")), 2)),
                }
            });
            HttpResponse::Ok().streaming(pieces)
        }),
        (Class::TooLarge, "larger than 1 MiB", 1, |_, _| HttpResponse::Ok().body(vec![b'x'; 2 << 20])),
        (Class::Empty, "no bytes at all", 3, |_, _| HttpResponse::Ok().body("")),
        (Class::Unreadable, "should be the header", 3, |_, _| HttpResponse::Ok().body("something\nelse\n")),
        (Class::Stale, "an old answer again", 3, |_, _| HttpResponse::Ok().body("date,o,h,l,c,v\n2025-03-28,1,1,1,1,1\n")),
    ];
    for (class, words, tries, say) in cases {
        let server = Server::start(say);
        let asked = ask(&work(profile(&server.base, "", PLAIN, CSV))).await;
        let failure = asked.outcome.unwrap_err();
        assert!(failure.class == class && failure.message.contains(words), "{class:?}: {failure}");
        assert_eq!(asked.attempts, tries, "{class:?}");
    }
    let server = Server::start(|_, _| HttpResponse::Ok().content_type("image/png").body(BODY));
    let picture = ask(&work(profile(&server.base, "", PLAIN, &format!("media_type = \"text/csv\"\n{CSV}")))).await.outcome.unwrap_err();
    assert!(picture.class == Class::WrongContent && picture.message.contains("expected text/csv and got image/png"), "{picture}");
}

#[actix_web::test]
async fn what_cannot_be_reached_says_how() {
    let unreachable = ask(&work(profile("http://127.0.0.1:1", "", PLAIN, CSV))).await.outcome.unwrap_err();
    assert!(unreachable.class == Class::Unreachable && unreachable.message.contains("no connection"), "{unreachable}");
    let unknown = ask(&work(profile("http://harbour.invalid", "", PLAIN, CSV))).await.outcome.unwrap_err();
    assert!(unknown.class == Class::NameNotResolved && unknown.message.contains("not known"), "{unknown}");
    let slow = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let mut patient = profile(&format!("http://{}", slow.local_addr().unwrap()), "", PLAIN, CSV);
    (patient.limits.timeout, patient.limits.attempts) = (200_000, 1);
    let late = ask(&work(patient)).await.outcome.unwrap_err();
    assert!(late.class == Class::TimedOut && late.message.contains("in time"), "{late}");
    // A server that speaks plainly where a secure connection is wanted.
    let plain = Server::start(|_, _| HttpResponse::Ok().body(BODY));
    let insecure = ask(&work(profile(&plain.base.replace("http:", "https:"), "", PLAIN, CSV))).await.outcome.unwrap_err();
    assert!(insecure.class == Class::Tls && insecure.message.contains("secure connection failed"), "{insecure}");
}

#[actix_web::test]
async fn retry_after_is_obeyed_in_both_its_forms() {
    for as_date in [false, true] {
        let server = Server::start(move |_, n| match n {
            1 => {
                // The client's clock runs a thousand times as fast and began on 10 April 2025.
                let date = "Thu, 10 Apr 2025 02:32:00 GMT".to_owned();
                let sent = ("Date", "Thu, 10 Apr 2025 02:30:00 GMT");
                let wait = ("Retry-After", if as_date { date } else { "120".to_owned() });
                HttpResponse::TooManyRequests().insert_header(sent).insert_header(wait).finish()
            }
            _ => HttpResponse::Ok().body(BODY),
        });
        let source = work(profile(&server.base, "", PLAIN, CSV));
        let asked = ask(&source).await;
        let waited = asked.asked_at.0 - "2025-04-10T02:30:00Z".parse::<mizuno_core::Timestamp>().unwrap().0;
        assert!(asked.outcome.is_ok() && asked.attempts == 2);
        assert!(waited >= 119_000_000, "waited {waited} of 120 000 000 microseconds");
    }
}

/// A source that is paused after three failures, for 400 seconds of its clock.
fn impatient(server: &Server) -> mizuno_sources::Source {
    let mut profile = profile(&server.base, "", PLAIN, CSV);
    (profile.limits.attempts, profile.limits.pause_after, profile.limits.probe_after) = (1, 3, 400_000_000);
    work(profile)
}

#[actix_web::test]
async fn a_source_that_keeps_failing_is_paused_and_comes_back_by_itself() {
    let server = Server::start(|_, n| if n <= 4 { HttpResponse::BadGateway().finish() } else { HttpResponse::Ok().body(BODY) });
    let source = impatient(&server);
    for _ in 0..3 {
        assert_eq!(ask(&source).await.outcome.unwrap_err().class, Class::ServerError);
    }
    assert!(matches!(source.gate().standing(), Standing::Paused(_)), "{:?}", source.gate().standing());
    assert_eq!(ask(&source).await.outcome.unwrap_err().class, Class::ServerError, "the probe");
    assert!(ask(&source).await.outcome.is_ok(), "the second probe");
    assert_eq!(source.gate().standing(), Standing::Ready);
    assert_eq!(server.targets().len(), 5);
}

#[actix_web::test]
async fn a_probe_that_nobody_sends_leaves_the_source_to_the_next() {
    let server = Server::start(|_, n| if n <= 3 { HttpResponse::BadGateway().finish() } else { HttpResponse::Ok().body(BODY) });
    let source = impatient(&server);
    for _ in 0..3 {
        assert!(ask(&source).await.outcome.is_err());
    }
    assert!(matches!(source.gate().standing(), Standing::Paused(_)));
    // Whoever waits for the end of the pause gives up before it.
    let given_up = tokio::time::timeout(std::time::Duration::from_millis(20), ask(&source)).await;
    assert!(given_up.is_err());
    tokio::time::sleep(std::time::Duration::from_millis(450)).await;
    assert_eq!(source.gate().standing(), Standing::Ready, "a pause does not last longer for a probe that was not sent");
    assert!(ask(&source).await.outcome.is_ok());
    assert_eq!(server.targets().len(), 4);
}

#[actix_web::test]
async fn a_gate_in_the_place_of_another_counts_the_calls_of_that_too() {
    let server = Server::start(|_, _| HttpResponse::Ok().body(BODY));
    let mut slow = profile(&server.base, "", PLAIN, CSV);
    slow.limits = toml::from_str("calls_per_minute = 3\nburst = 3").unwrap();
    let (old, new) = (work(slow.clone()), work(slow));
    let first = ask(&old).await.asked_at;
    assert!(ask(&old).await.outcome.is_ok());
    new.gate().succeed(old.gate());
    assert_eq!((new.gate().standing(), new.gate().used_this_minute()), (Standing::Ready, 2));
    assert!(ask(&new).await.outcome.is_ok());
    assert!(ask(&new).await.asked_at >= first.plus(60_000_000), "the fourth call within a minute");
    let nobody = tokio::time::timeout(std::time::Duration::from_millis(200), ask(&old)).await;
    assert!(nobody.is_err() && server.targets().len() == 4, "{:?}", server.targets());
}

#[actix_web::test]
async fn a_file_for_all_symbols_is_fetched_once_and_only_when_it_is_listed() {
    let server = Server::start(|heard, _| match heard.target.as_str() {
        "/" => HttpResponse::Ok().body("<a href=\"/all-20250401.csv\">1</a> <a href='all-20250409.csv'>9</a>"),
        _ => HttpResponse::Ok().body(BODY),
    });
    let request = "[[series.request]]\nget = \"/all-{from}.csv\"\nstamps = \"%Y%m%d\"\nlisted_at = \"/\"\nshared = true\n";
    let source = work(profile(&server.base, "", request, CSV));
    for _ in 0..5 {
        let asked = ask_for(&source, Interval::Daily, Side::Trade, &days("2025-04-09", "2025-04-09")).await;
        assert_eq!(asked.outcome.unwrap().rows, 2);
    }
    assert_eq!(server.targets(), ["/", "/all-20250409.csv"]);
    let late = ask_for(&source, Interval::Daily, Side::Trade, &days("2025-04-08", "2025-04-08")).await.outcome.unwrap_err();
    assert!(late.class == Class::NotListed && late.message.contains("lists 2 files and not all-20250408.csv"), "{late}");
    assert_eq!(server.targets().len(), 2, "what is not listed is not asked for");
}

#[actix_web::test]
async fn files_dropped_into_a_folder_are_read_and_none_outside_it() {
    let dir = tempfile::TempDir::new().unwrap();
    std::fs::create_dir(dir.path().join("in")).unwrap();
    std::fs::write(dir.path().join("in/KBF.csv"), BODY).unwrap();
    std::fs::write(dir.path().join("secret.csv"), BODY).unwrap();
    let request = "[[series.request]]\nget = \"/{symbol}.csv\"\n";
    let source = at_work(profile("folder:in", "", request, CSV), &[], dir.path());
    assert_eq!(ask(&source).await.outcome.unwrap().rows, 2);
    let outside = at_work(profile("folder:in", "", "[[series.request]]\nget = \"/../secret.csv\"\n", CSV), &[], dir.path());
    assert_eq!(ask(&outside).await.outcome.unwrap_err().class, Class::BadRequest);
    std::fs::remove_file(dir.path().join("in/KBF.csv")).unwrap();
    assert_eq!(ask(&source).await.outcome.unwrap_err().class, Class::NotListed);
}

#[actix_web::test]
async fn hours_of_quiet_and_calls_a_day_keep_the_source_from_being_asked() {
    let server = Server::start(|_, _| HttpResponse::Ok().body(BODY));
    // 02:30 in UTC when the clock starts; a thousand seconds pass in one.
    let mut quiet = profile(&server.base, "", PLAIN, CSV);
    quiet.limits = toml::from_str("calls_per_minute = 600\nleave_alone = { hours = [\"02:00-02:40\"] }").unwrap();
    let source = work(quiet);
    assert!(matches!(source.gate().standing(), Standing::LeftAlone(_)));
    let asked = ask(&source).await;
    assert!(asked.asked_at >= "2025-04-10T02:40:00Z".parse().unwrap(), "{}", asked.asked_at);

    let mut few = profile(&server.base, "", PLAIN, CSV);
    few.limits = toml::from_str("calls_per_minute = 600\nday = { calls = 2, turns_at = \"02:40\" }").unwrap();
    let source = work(few);
    assert!(ask(&source).await.outcome.is_ok() && ask(&source).await.outcome.is_ok());
    assert!(matches!(source.gate().standing(), Standing::UsedUp(_)), "{:?}", source.gate().standing());
    assert_eq!(source.gate().used_today(), Some((2, 2)));
    assert!(ask(&source).await.asked_at >= "2025-04-10T02:40:00Z".parse().unwrap(), "the third waits for the turn of the day");
}
