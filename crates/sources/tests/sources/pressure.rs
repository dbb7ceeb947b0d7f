//! Sources under pressure: tokens that die, cursors that go round, pages that break, sources that stall, limits they do not mean.

use crate::common::{BODY, CSV, Heard, JSON, PLAIN, Server, ask, at_work, days, profile, rows, venue, work};
use actix_web::HttpResponse;
use mizuno_core::{Interval, Side};
use mizuno_sources::{Class, Source, Stop, Ticket, Wanted};
use serde_json::json;
use std::{
    io::{BufRead, BufReader, Write},
    net::TcpListener,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

/// A source that gives a token for a password and refuses calls when a test says so, what it was asked, and how often for a token.
fn with_tokens(refuses: impl Fn(&Heard, usize) -> bool + Send + Sync + 'static) -> (Source, Server, Arc<AtomicUsize>) {
    let logins = Arc::new(AtomicUsize::new(0));
    let counted = logins.clone();
    let server = Server::start(move |heard, n| match heard.target.as_str() {
        "/login" => {
            HttpResponse::Ok().json(json!({ "token": format!("token-{}", counted.fetch_add(1, Ordering::SeqCst) + 1), "life": 3600 }))
        }
        _ if refuses(heard, n) => HttpResponse::Unauthorized().body("expired"),
        _ => HttpResponse::Ok().body(BODY),
    });
    let key = "[key]\nenv = \"MIZUNO_T_PASS\"\nheader = \"Authorization\"\nprefix = \"Bearer \"\nlogin = { post = \"/login\", body = { word = \"{key}\" }, token = \"/token\", lasts = \"/life\" }";
    let source = at_work(profile(&server.base, key, PLAIN, CSV), &[("MIZUNO_T_PASS", "open sesame")], Path::new("."));
    (source, server, logins)
}

#[actix_web::test]
async fn a_token_that_dies_while_eight_windows_use_it_fails_none_of_them() {
    // The first token is refused wherever it comes from, as if it had been taken back in the middle of the work.
    let (source, server, logins) = with_tokens(|heard, _| heard.header.as_deref() == Some("Bearer token-1"));
    let all = futures_util::future::join_all((0..8).map(|_| ask(&source))).await;
    for asked in &all {
        assert!(asked.outcome.is_ok(), "{:?}", asked.outcome);
    }
    assert_eq!(logins.load(Ordering::SeqCst), 2, "one login for all of them, before and after");
    let sent = server.asked.lock().unwrap().len();
    assert_eq!(all.iter().map(|a| a.attempts as usize).sum::<usize>(), sent, "logins are calls like any other and are counted");
}

#[actix_web::test]
async fn no_login_goes_uncounted_however_often_tokens_die() {
    // Every third call finds its token dead.
    let (source, server, logins) = with_tokens(|_, n| n % 3 == 0);
    let all = futures_util::future::join_all((0..400).map(|_| ask(&source))).await;
    let sent = server.asked.lock().unwrap().len();
    assert_eq!(all.iter().map(|a| a.attempts as usize).sum::<usize>(), sent);
    assert!(logins.load(Ordering::SeqCst) > 20, "tokens died: {}", logins.load(Ordering::SeqCst));
}

#[actix_web::test]
async fn a_cursor_that_comes_again_ends_the_answer() {
    let server = Server::start(|heard, _| match heard.target.split("cursor=").nth(1) {
        Some("two") => HttpResponse::Ok().json(json!({ "rows": rows(3..4), "next": "three" })),
        _ => HttpResponse::Ok().json(json!({ "rows": rows(1..3), "next": "two" })),
    });
    let request = "[[series.request]]\nget = \"/b{?cursor}\"\npages = { cursor = { at = \"/next\", variable = \"cursor\" } }\n";
    let failure = ask(&work(profile(&server.base, "", request, JSON))).await.outcome.unwrap_err();
    assert!(failure.class == Class::TooLarge && failure.message.contains("`two` comes a second time after 3 pages"), "{failure}");
}

#[actix_web::test]
async fn a_page_that_cannot_be_read_is_asked_for_again_and_those_before_it_are_not() {
    let server = Server::start(|heard, n| {
        let page: u32 = heard.target.rsplit('=').next().unwrap().parse().unwrap();
        match n {
            3 => HttpResponse::Ok().body("<html>We are mending the quay.</html>"),
            _ => HttpResponse::Ok().json(json!({ "rows": rows(page * 2 - 1..(page * 2 + 1).min(6)) })),
        }
    });
    let request = "[[series.request]]\nget = \"/b{?page}\"\npages = { number = { variable = \"page\", first = 1, full = 2 } }\n";
    let asked = ask(&work(profile(&server.base, "", request, JSON))).await;
    assert_eq!(asked.outcome.unwrap().rows, 5);
    assert_eq!(server.targets(), ["/b?page=1", "/b?page=2", "/b?page=3", "/b?page=3"]);
    assert_eq!(asked.pages.len(), 3, "what could not be read is no page of the answer");
}

#[actix_web::test]
async fn a_redirect_may_pass_and_a_shared_answer_that_is_of_no_use_is_fetched_afresh() {
    let server = Server::start(|_, n| match n {
        1 => HttpResponse::Found().insert_header(("Location", "/login")).finish(),
        2 => HttpResponse::Ok().body("date,o\nnonsense"),
        _ => HttpResponse::Ok().body(BODY),
    });
    let shared = PLAIN.replace("get = \"/{symbol}{?from,to}\"", "get = \"/all\"\nshared = true");
    let source = work(profile(&server.base, "", &shared, CSV));
    let all = futures_util::future::join_all((0..6).map(|_| ask(&source))).await;
    assert!(all.iter().all(|a| a.outcome.is_ok()), "{:?}", all.iter().map(|a| &a.outcome).collect::<Vec<_>>());
    assert!(server.targets().len() <= 8, "one good answer serves them all: {}", server.targets().len());
}

#[actix_web::test]
async fn a_time_to_wait_is_read_against_the_sources_own_clock() {
    // Its clock is a year behind ours; it asks for thirty seconds.
    let server = Server::start(|_, n| match n {
        1 => HttpResponse::TooManyRequests()
            .insert_header(("Date", "Wed, 10 Apr 2024 02:30:00 GMT"))
            .insert_header(("Retry-After", "Wed, 10 Apr 2024 02:30:30 GMT"))
            .body("slower"),
        _ => HttpResponse::Ok().body(BODY),
    });
    let source = work(profile(&server.base, "", PLAIN, CSV));
    let asked = ask(&source).await;
    let waited = asked.asked_at.0 - "2025-04-10T02:30:00Z".parse::<mizuno_core::Timestamp>().unwrap().0;
    assert!(asked.outcome.is_ok() && (29_000_000..600_000_000).contains(&waited), "it waited {} s", waited / 1_000_000);
    assert!(source.gate().slowed().is_some(), "and it is asked more slowly now");
}

/// How long a told-to-stop errand takes to end.
async fn stopped_after(source: &Source) -> Duration {
    let (told, stop) = tokio::sync::watch::channel(false);
    let profile = source.profile.clone();
    let offer = profile.offer("ALDX", Interval::Daily, Side::Trade).unwrap();
    let (venue, window) = (venue(), days("2025-04-01", "2025-04-09"));
    let wanted = Wanted { symbol: "KBF", id: None, window: &window };
    let ticket = Ticket::default();
    let errand = source.ask(offer, &venue, &wanted, &ticket, Stop::when(stop), 1);
    let stopper = async {
        tokio::time::sleep(Duration::from_millis(300)).await;
        told.send_replace(true);
        Instant::now()
    };
    let (asked, began) = tokio::join!(errand, stopper);
    assert!(asked.is_none(), "{asked:?}");
    began.elapsed()
}

#[actix_web::test]
async fn a_source_that_never_answers_holds_nobody_who_is_told_to_stop() {
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("http://{}", silent.local_addr().unwrap());
    let held = std::thread::spawn(move || {
        let all: Vec<_> = silent.incoming().take(1).collect();
        std::thread::sleep(Duration::from_secs(8));
        drop(all);
    });
    let mut patient = profile(&base, "", PLAIN, CSV);
    patient.limits.timeout = 3_600_000_000;
    let took = stopped_after(&work(patient)).await;
    assert!(took < Duration::from_secs(6), "{took:?}");
    drop(held);
}

/// An FTP server whose data connection is opened and then says nothing; the address it names is another host's.
fn stalling_ftp() -> String {
    let control = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("ftp://{}", control.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in control.incoming().take(3).flatten() {
            std::thread::spawn(move || {
                let mut out = stream.try_clone().unwrap();
                let data = TcpListener::bind("127.0.0.1:0").unwrap();
                let port = data.local_addr().unwrap().port();
                let _ = out.write_all(b"220 hello\r\n");
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    let answer = match line.split(' ').next().unwrap_or_default() {
                        "USER" => "331 and the password?".to_owned(),
                        "PASS" => "230 come in".to_owned(),
                        "PASV" => format!("227 here (203,0,113,1,{},{})", port / 256, port % 256),
                        "RETR" | "NLST" => "150 it comes".to_owned(),
                        _ => "200 well".to_owned(),
                    };
                    if out.write_all(format!("{answer}\r\n").as_bytes()).is_err() {
                        return;
                    }
                    if answer.starts_with("150") {
                        let kept = data.accept();
                        std::thread::sleep(Duration::from_secs(10));
                        drop(kept);
                    }
                }
            });
        }
    });
    base
}

#[actix_web::test]
async fn a_data_connection_that_stalls_is_given_up_in_time_and_goes_to_the_same_host_only() {
    let source = work(profile(&stalling_ftp(), "", "[[series.request]]\nget = \"/{symbol}.csv\"\n", CSV));
    let mut limits = (*source.profile).clone();
    limits.limits.attempts = 1;
    let began = Instant::now();
    let asked = ask(&work(limits)).await;
    let failure = asked.outcome.unwrap_err();
    assert!(began.elapsed() < Duration::from_secs(8), "{:?}", began.elapsed());
    assert_eq!(failure.class, Class::TimedOut, "the data came to the host that was asked, and stalled there: {failure}");
    assert!(stopped_after(&source).await < Duration::from_secs(6));
}
