//! Trust or doubt: bars traced to their bytes, restatements listed, series compared, other sources heard.

use crate::common::Bench;
use mizuno_sim::faults::Faults;

#[tokio::test(flavor = "multi_thread")]
async fn a_bar_is_traced_to_its_versions_and_the_lines_they_stand_on() {
    // Wednesday evening at Aldermere: the day's volumes are not yet what they will be.
    let bench = Bench::whole_demo("2025-04-09T06:00:00Z", 14_400.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "lodestar-daily", "--from", "2025-04-01"]).code, 0);
    // Two sessions later the source says otherwise.
    while bench.now() < "2025-04-11T06:00:00Z".parse().unwrap() {
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    let again = service.cli(&["collect", "lodestar-daily", "--from", "2025-04-01", "--again", "--json"]).json();
    assert!(again[0]["restated"].as_u64() > Some(0), "{again}");

    let restated = service.get("/restatements?days=30").await;
    let one = &restated[0];
    let (series, at) = (one["series"].as_str().unwrap(), one["at"].as_str().unwrap());
    assert_eq!(one["was"].as_array().unwrap()[..4], one["is"].as_array().unwrap()[..4], "only the volume changed");
    assert_ne!(one["was"][4], one["is"][4]);
    let listed = service.cli(&["restatements", "--source", "lodestar"]);
    assert!(listed.out.contains("volume ") && listed.out.contains(" → "), "{}", listed.out);
    assert!(service.cli(&["restatements", "--source", "harbour"]).out.is_empty());

    let traced = service.cli(&["lineage", &format!("{series}@{at}"), "--json"]).json();
    let versions = traced.as_array().unwrap();
    assert_eq!(versions.len(), 2);
    for (version, told) in versions.iter().zip([&one["was"], &one["is"]]) {
        assert_eq!(version["values"], *told);
        // The line of the kept bytes says the same: the last number is the volume in lots.
        let lots: u64 = version["text"].as_str().unwrap().rsplit(", ").next().unwrap().parse().unwrap();
        assert_eq!((lots * 100).to_string(), version["values"][4].as_str().unwrap());
        assert!(version["request"].as_str().unwrap().starts_with("GET http://127.0.0.1"));
    }
    let before = versions[0]["recorded_at"].as_str().unwrap();
    let compared = service.cli(&["compare", series, "--here-as-of", before, "--to", at]);
    assert!(compared.code == 3 && compared.out.contains("differing by column: volume"), "{compared:?}");

    let harbour = service.cli(&["collect", "aldx-daily", "-i", "KBF", "--from", "2025-04-01"]);
    assert_eq!(harbour.code, 0);
    let line = service.cli(&["lineage", "KBF/1d/harbour@2025-04-09"]);
    assert!(
        line.out.contains("version 1 of 1") && line.out.contains("page 1, line ") && line.out.contains(": 2025-04-09,"),
        "{}",
        line.out
    );
    assert!(service.cli(&["lineage", "KBF/1d/harbour@2025-04-05"]).err.contains("there is no bar"), "a Saturday");
    assert!(service.cli(&["lineage", "KBF/1d/harbour@noon"]).err.contains("`noon` is not a moment"));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_sources_agree_or_say_how_they_do_not() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 20.0, Faults::default(), false);
    let service = bench.serve();
    for collector in ["aldx-daily", "lodestar-daily"] {
        assert_eq!(service.cli(&["collect", collector, "-i", "SME", "-i", "OXB", "--from", "2025-01-06"]).code, 0);
    }
    let said = service.cli(&["compare", "SME/1d/harbour", "SME/1d/lodestar", "--to", "2025-04-09"]);
    assert!(said.code == 3 && said.out.contains("steps by 4 on 2025-03-17: one of the two is adjusted"), "{}", said.out);
    assert!(said.out.contains("≠"), "differences side by side: {}", said.out);

    for collector in ["aldx-minutes", "cellar-minutes"] {
        assert_eq!(service.cli(&["collect", collector, "-i", "OXB", "--from", "2025-04-07", "--to", "2025-04-08"]).code, 0);
    }
    let same = service.cli(&["compare", "OXB/1m/harbour", "OXB/1m/cellar", "--to", "2025-04-08"]);
    assert!(same.code == 0 && same.out.contains("690 bars in both: 690 the same, 0 differ"), "{same:?}");
    let now = bench.now().to_string();
    let itself = service.cli(&["compare", "OXB/1m/harbour", "--here-as-of", &now]);
    assert!(itself.out.starts_with(&format!("OXB/1m/harbour as of {now} against OXB/1m/harbour as of now\n")), "{}", itself.out);
    assert!(service.cli(&["compare", "OXB/1m/harbour", "OXB/1d/harbour"]).err.contains("bars of other lengths"));
    assert!(service.cli(&["compare", "OXB/1m/harbour", "OXB/1m/nobody"]).err.contains("did you mean"));
}

#[tokio::test(flavor = "multi_thread")]
async fn other_sources_are_the_evidence_for_a_gap() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    let range = ["-i", "OXB", "--from", "2025-04-04", "--to", "2025-04-04"];
    for collector in ["aldx-minutes", "cellar-minutes"] {
        service.cli(&[&["collect", collector], &range[..]].concat());
    }
    let gaps = service.cli(&["gaps", "--instrument", "OXB", "--interval", "1m", "--from", "2025-04-04", "--to", "2025-04-04"]);
    assert!(gaps.out.contains("cellar has it: really missing"), "{}", gaps.out);
}
