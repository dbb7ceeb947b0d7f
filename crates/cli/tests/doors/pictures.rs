//! Pictures of bars over HTTP and by the client, and bars so coarse that they fit.

use crate::common::{self, Bench, Service};
use mizuno_sim::faults::Faults;

fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "almanack/dividends"]).code, 0);
    for (collector, from) in [("aldx-daily", "2022-01-10"), ("aldx-minutes", "2025-03-03")] {
        let said = service.cli(&["collect", collector, "--from", from, "-i", "KBF", "-i", "OXB"]);
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
    (bench, service)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_drawn_over_http_and_by_the_client() {
    let (bench, service) = collected();
    let path = "/picture?instruments=KBF&last=120&adjust=all&format=svg";
    let answer = service.ask(path).await;
    assert_eq!((answer.status().as_u16(), answer.headers()["content-type"].to_str().unwrap()), (200, "image/svg+xml"));
    let tag = answer.headers()["etag"].clone();
    let svg = answer.text().await.unwrap();
    for part in ["KBF, Kelp &amp; Barley Foods: bars of 1d in NZD", "KBF/1d/golden as of", "adjusted for splits", "dividend 0.12 NZD"] {
        assert!(svg.contains(part), "{part}: {}", &svg[..3_000]);
    }
    // Nobody learned anything: it is the same picture.
    let again = common::client().get(format!("{}/api/v1{path}", service.url)).header("If-None-Match", tag.clone()).send().await.unwrap();
    assert_eq!(again.status().as_u16(), 304);
    assert_ne!(service.ask(&format!("{path}&dark=true")).await.headers()["etag"], tag);

    // Stamps are on the clock of the venue, or on the one that is asked for: 10:00 in Aldermere is 22:00 in UTC.
    for (zone, told) in [
        ("", ["times of Pacific/Auckland", "2025-04-08 10:00"]),
        ("&zone=UTC", ["times of UTC", "2025-04-07 22:00"]),
        ("&zone=%2B02:00", ["times of +02:00", "2025-04-08 00:00"]),
    ] {
        let minutes = service.text(&format!("/picture?series=KBF/1m/golden&from=2025-04-08&to=2025-04-08&format=svg{zone}")).await;
        assert!(told.iter().all(|part| minutes.contains(part)), "{zone}: {}", &minutes[..3_000]);
    }

    let file = bench.data().join("three.png");
    let said = service.cli(&["picture", "KBF", "OXB", "--last", "250", "--dark", "-o", file.to_str().unwrap()]);
    assert_eq!(said.code, 0, "{said:?}");
    let bytes = std::fs::read(&file).unwrap();
    assert_eq!(&bytes[..8], b"\x89PNG\r\n\x1a\n");
    // Width and height stand in the first chunk (ISO/IEC 15948).
    assert_eq!(bytes[16..24], [[0, 0, 5, 0], [0, 0, 3, 32]].concat());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_drawn_is_told_with_the_way_out() {
    let (_bench, service) = collected();
    for (path, told) in [
        ("/picture?instruments=KBF&width=20", "a picture is 320 to 4000 pixels wide"),
        ("/picture?instruments=KBF&width=wide", "width: `wide` is no number of pixels"),
        ("/picture?instruments=KBF&format=pdf", "format: `pdf` is no format of a picture; it is png or svg"),
        ("/picture?instruments=KBF&dark=maybe", "dark: `maybe` is neither true nor false"),
        ("/picture?instruments=KBF&columns=close", "only hours and zone can be said of its shape"),
        ("/picture?instruments=KBF&since=2025-04-10T00:00:00Z", "a picture shows no changes"),
        ("/picture?instruments=NOPE", "no instrument `NOPE`"),
        ("/picture?instruments=KBF&from=2031-01-01", "there is no bar to draw"),
    ] {
        let answer = service.ask(path).await;
        assert!(answer.status().is_client_error(), "{path}");
        let problem = answer.text().await.unwrap();
        assert!(problem.contains(told), "{path}: {problem}");
    }
    let said = service.cli(&["picture", "KBF", "-o", "kbf.pdf"]);
    assert!(said.code == 2 && said.err.contains("a picture is a .png or .svg file, and kbf.pdf is neither"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn bars_become_so_coarse_that_they_fit_and_no_coarser() {
    let (_bench, service) = collected();
    let ask = async |more: &str| {
        let answer = service.ask(&format!("/bars?instruments=KBF{more}")).await;
        let interval = answer.headers()["mizuno-interval"].to_str().unwrap().to_owned();
        (interval, answer.text().await.unwrap())
    };
    let whole = ask("").await;
    let days = whole.1.lines().count() - 1;
    assert!(days > 700, "{days}");
    // Where all fit, nothing is made coarser.
    assert_eq!(ask(&format!("&fit={days}")).await, whole);
    for (most, interval) in [(days - 1, "1w"), (days / 5 - 2, "1mo"), (20, "1q"), (10, "1y")] {
        let (made, csv) = ask(&format!("&fit={most}")).await;
        assert_eq!(made, interval, "{most}");
        assert_eq!(csv, ask(&format!("&interval={interval}")).await.1);
        assert!(csv.lines().count() <= most + 3, "{most} of {interval}: {}", csv.lines().count());
    }
    let (made, csv) = ask("&interval=1m&last=10&fit=200").await;
    assert!(made == "30m" && csv.lines().count() <= 201, "{made}, {}", csv.lines().count());
    // The digest of what was asked is that of the question with its fit.
    let answers = [service.ask("/bars?instruments=KBF&fit=20").await, service.ask("/bars?instruments=KBF&interval=1q").await];
    let [a, b] = answers.map(|answer| answer.headers()["mizuno-question"].clone());
    assert_ne!(a, b);
}
