//! When collectors run by themselves: next times across closes, half days, holidays and the end of daylight saving, as a
//! person reads them back; and what was missed while the service was down.

use crate::common::Bench;
use mizuno_core::Timestamp;
use mizuno_sim::faults::Faults;
use serde_json::Value;
use std::time::Duration;

/// The next three times of each collector of ALDX, as told at an instant.
async fn told(at: &str, schedules: &[(&str, &str)]) -> Vec<(String, Vec<String>)> {
    let bench = Bench::at(at, 1.0, Faults::default());
    for (name, schedule) in schedules {
        bench.collector(name, "1d", "2025-03-03", &format!("instruments = [\"KBF\"]\nschedule = {schedule}"));
    }
    let service = bench.serve();
    let status = service.get("/status").await;
    let of = |name: &str| {
        let collector = status["collectors"].as_array().unwrap().iter().find(|c| c["name"] == name).unwrap();
        let times = std::iter::once(&collector["next"]).chain(collector["then"].as_array().unwrap());
        (collector["schedule"].as_str().unwrap().to_owned(), times.map(|t| t.as_str().unwrap().to_owned()).collect())
    };
    schedules.iter().map(|(name, _)| of(name)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn after_each_close_knows_half_days_holidays_and_the_clock() {
    // Wednesday 26 March 2025, noon: Thursday is a half day, Friday a holiday.
    let half = told("2025-03-25T23:00:00Z", &[("evening", "{ after_close = \"30m\" }")]).await;
    assert_eq!(half[0].0, "30m after each close of ALDX");
    assert_eq!(half[0].1, ["2025-03-26T04:15:00Z", "2025-03-27T00:00:00Z", "2025-03-31T04:15:00Z"]);
    // Friday 4 April, noon: daylight saving ends on Sunday, and the same close is an hour later in UTC.
    let moved = told("2025-04-03T23:00:00Z", &[("evening", "{ after_close = \"1h 15m\" }")]).await;
    assert_eq!(moved[0].0, "1h 15m after each close of ALDX");
    assert_eq!(moved[0].1, ["2025-04-04T05:00:00Z", "2025-04-07T06:00:00Z", "2025-04-08T06:00:00Z"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn cron_keeps_to_the_clock_on_the_wall_of_the_venue() {
    let schedules = [
        ("weekdays", "{ cron = \"30 6 * * 1-5\" }"),
        ("first", "{ cron = \"0 9 1 * *\" }"),
        ("doubled", "{ cron = \"30 2 * * *\" }"),
        ("never", "{ cron = \"30 6 31 2 *\" }"),
    ];
    // Friday 4 April, noon, before the clocks go back on Sunday at three.
    let autumn = told("2025-04-03T23:00:00Z", &schedules[..3]).await;
    assert_eq!(autumn[0].0, "30 6 * * 1-5 (Pacific/Auckland, cron)");
    assert_eq!(autumn[0].1, ["2025-04-06T18:30:00Z", "2025-04-07T18:30:00Z", "2025-04-08T18:30:00Z"]);
    assert_eq!(autumn[1].1, ["2025-04-30T21:00:00Z", "2025-05-31T21:00:00Z", "2025-06-30T21:00:00Z"]);
    // Half past two comes twice on Sunday; the collector runs once.
    assert_eq!(autumn[2].1, ["2025-04-04T13:30:00Z", "2025-04-05T13:30:00Z", "2025-04-06T14:30:00Z"]);
    // In spring there is no half past two; the day is not left out.
    let spring = told("2025-09-26T23:00:00Z", &schedules[2..3]).await;
    assert_eq!(spring[0].1.len(), 3);
    assert_eq!(spring[0].1[0], "2025-09-27T14:00:00Z", "the moment the missing hour would have begun: three o'clock");
    assert_eq!(spring[0].1[1], "2025-09-28T13:30:00Z");
}

#[tokio::test(flavor = "multi_thread")]
async fn while_open_runs_through_the_session_and_once_when_it_has_closed() {
    // Twenty-five minutes before the close of a Thursday: on the grid from the open, not from now.
    let before = told("2025-04-10T04:20:00Z", &[("often", "{ every = \"20m\" }")]).await;
    assert_eq!(before[0].0, "every 20m while ALDX is open");
    assert_eq!(before[0].1, ["2025-04-10T04:40:00Z", "2025-04-10T05:00:00Z", "2025-04-10T05:05:01Z"]);
    // The source publishes twenty minutes late, so it goes on until the last bar of the session is there, and then rests.
    let after = told("2025-04-10T04:50:00Z", &[("often", "{ every = \"20m\" }")]).await;
    assert_eq!(after[0].1, ["2025-04-10T05:00:00Z", "2025-04-10T05:05:01Z", "2025-04-10T22:20:00Z"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_collector_without_a_schedule_runs_only_when_asked_and_is_never_late() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let shown = service.cli(&["schedule"]);
    assert!(shown.out.contains("only when asked"), "{}", shown.out);
    let status = service.get("/status").await;
    for collector in status["collectors"].as_array().unwrap() {
        assert_eq!((collector["next"].is_null(), collector["late"].as_bool()), (true, Some(false)), "{collector}");
    }
    for bad in ["{ cron = \"30 6 * *\" }", "{ every = \"0s\" }", "{ after_close = \"30m\", every = \"5m\" }", "{}"] {
        bench.collector("daily", "1d", "2025-03-03", &format!("schedule = {bad}"));
        let refused = service.cli(&["reload"]);
        assert_eq!(refused.code, 1, "{bad}: {refused:?}");
        assert!(refused.err.contains("collectors/daily.toml") && refused.err.contains("cron"), "{bad}: {}", refused.err);
    }
    bench.collector("daily", "1d", "2025-03-03", "schedule = { after_close = \"30m\" }");
    assert_eq!(service.cli(&["reload"]).code, 0);
    let shown = service.cli(&["schedule"]);
    assert!(shown.out.contains("30m after each close of ALDX"), "taken up without a restart: {}", shown.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_missed_while_the_service_was_down_is_caught_up_once() {
    let bench = Bench::at("2025-04-07T21:00:00Z", 7200.0, Faults::default());
    bench.collector("often", "1d", "2025-03-03", "instruments = [\"KBF\"]\nschedule = { cron = \"*/30 * * * *\" }");
    let service = bench.serve();
    service.settled().await;
    service.kill();
    // Down for more than a scenario day: about fifty ticks are missed.
    tokio::time::sleep(Duration::from_secs(14)).await;
    let back = bench.now();
    let service = bench.serve();
    tokio::time::sleep(Duration::from_millis(400)).await;
    let runs = service.get("/runs?collector=often&most=1000").await;
    let since = |r: &&Value| r["started_at"].as_str().unwrap().parse::<Timestamp>().unwrap() >= back.plus(-60_000_000);
    let late = runs.as_array().unwrap().iter().filter(since).count();
    assert!((1..=6).contains(&late), "one run for all that was missed, and those that came due since: {late}");
}
