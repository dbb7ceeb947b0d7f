//! One Mizuno reads the editions of another as a source.

use crate::common::{Bench, Service};
use mizuno_sim::faults::Faults;

const DAYS: &str =
    "instruments = [\"KBF\", \"OXB\"]\ncolumns = [\"date\", \"open\", \"high\", \"low\", \"close\", \"volume\"]\nformat = \"parquet\"\n";
const MINUTES: &str = "instruments = [\"KBF\", \"OXB\"]\ninterval = \"1m\"\ncolumns = [\"instrument\", \"time\", \"open\", \"high\", \"low\", \"close\", \"volume\"]\nformat = \"parquet\"\n";

/// The desk whose editions are read: daily bars in a file for each share, minutes of both in one.
async fn first() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    bench.write("questions/days.toml", DAYS);
    bench.write("questions/minutes.toml", MINUTES);
    bench.write(
        "editions/desk.toml",
        "venue = \"ALDX\"\n[[file]]\nname = \"days/{instrument}.parquet\"\nquestion = \"days\"\ncut = [\"instrument\"]\nprice_decimals = 2\n\
         [[file]]\nname = \"minutes.parquet\"\nquestion = \"minutes\"\n",
    );
    let service = bench.serve();
    let said = service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "--from", "2025-01-06", "--to", "2025-04-04"]);
    assert_eq!(said.code, 0, "{said:?}");
    assert_eq!(service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-04-07"]).code, 0);
    make(&service);
    (bench, service)
}

fn make(service: &Service) {
    let said = service.cli(&["editions", "desk", "--make", "--by", "mere"]);
    assert_eq!(said.code, 0, "{said:?}");
}

/// A desk that has nothing but those editions.
fn second(upstream: &str) -> Bench {
    let bench = Bench::at(mizuno_sim::DEMO_START, 1.0, Faults::default());
    let series = |interval: &str, path: &str, answer: &str, time: &str| {
        format!(
            "[[series]]\ninterval = \"{interval}\"\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"15m\"\nspan_days = 5000\n\
             [[series.request]]\nget = \"/api/v1/editions/desk/latest/files/{path}\"\nstamps = \"%Y-%m-%d\"\n{answer}\nform = \"parquet\"\n\
             media_type = \"application/vnd.apache.parquet\"\n\
             columns = {{ time = \"{time}\", open = \"open\", high = \"high\", low = \"low\", close = \"close\", volume = \"volume\" }}\n"
        )
    };
    let days = series("1d", "days/{symbol}.parquet", "[series.answer]", "date") + "stamp = \"%Y-%m-%d\"\n";
    // A column of six decimals has no others: what the desk wants of them it says.
    let only = "shared = true\n[series.answer]\nsymbol_in = \"instrument\"\nround_decimals = 2";
    let minutes = series("1m", "minutes.parquet", only, "time") + "stamp = \"rfc3339\"\n";
    bench.write(
        "sources/upstream.toml",
        &format!("name = \"upstream\"\ntitle = \"The first desk\"\nbase = \"{upstream}\"\n[limits]\ncalls_per_minute = 600\nattempts = 2\n{days}{minutes}"),
    );
    for (name, interval, since) in [("handed-days", "1d", "2025-01-06"), ("handed-minutes", "1m", "2025-04-07")] {
        bench.write(
            &format!("collectors/{name}.toml"),
            &format!("name = \"{name}\"\nsource = \"upstream\"\nvenue = \"ALDX\"\ninterval = \"{interval}\"\nsince = \"{since}\"\ninstruments = [\"KBF\", \"OXB\"]\n"),
        );
    }
    bench
}

#[tokio::test(flavor = "multi_thread")]
async fn bars_of_an_edition_arrive_digit_for_digit_and_what_it_lacks_stays_missing() {
    let (_one, upstream) = first().await;
    let bench = second(&upstream.url);
    let service = bench.serve();
    let tried = service.cli(&[
        "try",
        bench.config().join("sources/upstream.toml").to_str().unwrap(),
        "KBF",
        "--from",
        "2025-03-31",
        "--to",
        "2025-04-04",
    ]);
    assert!(tried.code == 0 && tried.out.contains("a Parquet file of") && tried.out.contains("62 rows: 62 sound"), "{tried:?}");
    for collector in ["handed-days", "handed-minutes"] {
        let said = service.cli(&["collect", collector]);
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
    let own = "&columns=open,high,low,close,volume";
    for (interval, from, rows) in [("1d", "2025-01-06", 120), ("1m", "2025-04-07", 1_500)] {
        let asked = format!("/bars?instruments=KBF,OXB&interval={interval}&from={from}&to=2025-04-09{own},instrument,time");
        let (there, here) = (upstream.text(&asked).await, service.text(&asked).await);
        // The older desk went on collecting nothing: both have what the edition has.
        let other = there.lines().zip(here.lines()).find(|(there, here)| there != here);
        assert!(
            there == here && here.lines().count() > rows,
            "{interval}: {} and {} lines; {other:?}",
            there.lines().count(),
            here.lines().count()
        );
    }
    // What the edition does not have yet is missing here, and is filled when the next one has it.
    let gaps = service.get("/gaps?interval=1d").await;
    assert!(gaps.to_string().contains("2025-04-07"), "{gaps}");
    assert_eq!(upstream.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "--from", "2025-04-07"]).code, 0);
    make(&upstream);
    let repaired = service.cli(&["repair", "--all", "--source", "upstream", "--interval", "1d"]);
    assert!(repaired.code == 0 || repaired.code == 3, "{repaired:?}");
    let asked = format!("/bars?instruments=KBF,OXB&from=2025-04-07&to=2025-04-09{own},instrument,date");
    let (there, here) = (upstream.text(&asked).await, service.text(&asked).await);
    assert!(there == here && here.lines().count() == 7, "{there}\n{here}");

    // Where a bar came from is told to the row of the very file.
    let told = service.cli(&["lineage", "KBF/1d/upstream@2025-04-04"]);
    assert!(told.out.contains("2025-04-04") && told.out.contains("close="), "{told:?}");
}
