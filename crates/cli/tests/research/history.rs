//! The configuration as of an instant: last March's question has last March's answer, whatever was changed since.

use crate::common::{Bench, Service};
use mizuno_sim::faults::Faults;

/// Questions that lean on every part of a configuration.
const QUESTIONS: [&str; 8] = [
    "instruments=WIG&interval=1m&from=2025-04-07&to=2025-04-08",
    "instruments=WIG,KBF&columns=instrument,date,close,source,doubted",
    "instruments=K*&layout=wide&last=5&missing=rows",
    "search=kelp&last=3",
    "instruments=WIG&interval=1m&from=2025-04-08&to=2025-04-08&round=tick&columns=time,trade_date,close",
    "instruments=WIG&interval=1m&this=week&last_minutes=30&columns=time,close",
    "series=KBF/1d/harbour",
    "instruments=KBF&last=5&format=parquet",
];

/// What an answer says of itself, and its bytes.
type Answered = (Vec<(String, String)>, Vec<u8>);

/// The bytes of each answer as of an instant, with all that it says of itself.
async fn answers(service: &Service, as_of: &str) -> Vec<Answered> {
    let mut out = vec![];
    for question in QUESTIONS {
        let answer = service.ask(&format!("/bars?{question}&as_of={as_of}")).await;
        assert_eq!(answer.status(), 200, "{question}: {}", answer.text().await.unwrap());
        let of_itself = |(name, value): (&reqwest::header::HeaderName, &reqwest::header::HeaderValue)| {
            let wanted = name.as_str().starts_with("mizuno-") || name == "etag" || name == "content-disposition";
            wanted.then(|| (name.to_string(), value.to_str().unwrap().to_owned()))
        };
        let mut headers: Vec<(String, String)> = answer.headers().iter().filter_map(of_itself).collect();
        headers.sort();
        out.push((headers, answer.bytes().await.unwrap().to_vec()));
    }
    out
}

/// As of then, all is as it was then.
fn assert_alike(now: &[Answered], before: &[Answered]) {
    for ((question, now), before) in QUESTIONS.iter().zip(now).zip(before) {
        assert_eq!(now.0, before.0, "{question}");
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert!(now.1 == before.1, "{question}: {}\nand before {}", text(&now.1), text(&before.1));
    }
}

fn collect(service: &Service) {
    for collector in ["aldx-minutes", "lodestar-minutes", "cellar-minutes", "aldx-daily", "lodestar-daily"] {
        let said = service.cli(&["collect", collector, "--from", "2025-04-02", "-i", "WIG", "-i", "KBF"]);
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
}

/// Changes everything that a configuration can say of these answers.
fn change_everything(bench: &Bench) {
    bench.write("ranking.toml", "[[rank]]\nvenue = \"ALDX\"\nsources = [\"cellar\", \"lodestar\", \"harbour\"]\n");
    bench.write("checks.toml", "[[check]]\nname = \"spike\"\noff = true\n");
    // Another tick, and another symbol for an instrument that keeps its series.
    bench.change(
        "instruments/aldx.csv",
        "KBF,Kelp & Barley Foods,share,ALDX,NZD,0.01,,,,",
        "KBG,Kelp & Barley Foods,share,ALDX,NZD,0.05,,2025-04-08,,KBF until 2025-04-10",
    );
    let instruments = std::fs::read_to_string(bench.config().join("instruments/aldx.csv")).unwrap();
    let wig = instruments.lines().find(|l| l.starts_with("WIG,")).unwrap().to_owned();
    bench.change("instruments/aldx.csv", &wig, &wig.replace(",0.01,", ",0.25,"));
    // A day off in the midst of what is held, and shorter sessions.
    bench.change("venues/aldx.toml", "[short_days]\n", "[short_days]\n2025-04-07 = { name = \"A storm\", hours = [\"10:00-11:00\"] }\n");
    // A source with other terms, a collector that keeps less, and one that is gone.
    bench.change("sources/lodestar.toml", "title = ", "# Another year, another contract.\ntitle = ");
    bench.change("collectors/aldx-daily.toml", "since = \"", "except = [\"WIG\"]\nsince = \"");
    std::fs::remove_file(bench.config().join("collectors/cellar-minutes.toml")).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_question_of_a_past_instant_has_its_answer_whatever_the_configuration_says_now() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    collect(&service);
    let then = service.ask("/bars?instruments=WIG").await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    let before = answers(&service, &then).await;
    let told = |all: &[Answered], name: &str| -> Vec<String> {
        all.iter().map(|(headers, _)| headers.iter().find(|(n, _)| n == name).unwrap().1.clone()).collect()
    };
    assert!(told(&before, "mizuno-configuration").iter().all(|c| c.starts_with("1, accepted 2025-04-10T")), "{before:?}");

    change_everything(&bench);
    let reload = service.cli(&["reload"]);
    assert_eq!(reload.code, 0, "{reload:?}");
    assert_alike(&answers(&service, &then).await, &before);
    // The answer of today is another: its ranks, ticks, calendar and names are those of today.
    let now = service.text("/bars?instruments=KBG&layout=wide&last=5").await;
    assert!(now.starts_with("date,KBG"), "{now}");
    let today = service.ask(&format!("/bars?{}", QUESTIONS[0])).await;
    assert!(today.headers()["mizuno-configuration"].to_str().unwrap().starts_with("2, "));
    assert_ne!(today.bytes().await.unwrap().to_vec(), before[0].1);
    // A name that nobody knew then is not known there; the one of then is.
    let wide = service.text(&format!("/bars?instruments=KBF&layout=wide&last=5&as_of={then}")).await;
    assert!(wide.starts_with("date,KBF"), "{wide}");
    let compared = service.get(&format!("/comparison?here=WIG/1m/golden&there=WIG/1m/golden&here_as_of={then}&from=2025-04-07")).await;
    assert!(compared["matched"].as_u64().unwrap() > compared["equal"].as_u64().unwrap(), "the ranking of then and of now: {compared}");

    // Over a restart, and with the old configuration back, which is a third one.
    assert_eq!(service.stop(), Some(0));
    let service = bench.serve();
    assert_alike(&answers(&service, &then).await, &before);
    assert_eq!(service.get("/history").await.as_array().unwrap().len(), 2, "the same configuration is kept once");

    // An instant before the first: it stands for that time, and says so.
    let early = service.ask("/bars?instruments=WIG&as_of=2025-04-01T00:00:00Z").await;
    let said = early.headers()["mizuno-configuration"].to_str().unwrap().to_owned();
    assert!(said.starts_with("1, ") && said.ends_with("no older one is kept"), "{said}");
    let explained = service.cli(&["bars", "WIG", "--explain", "--as-of", "2025-04-01T00:00:00Z"]);
    assert!(explained.out.contains("no older one is kept"), "{explained:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_changed_when_is_told_as_differences_of_texts_and_without_secrets() {
    let bench = Bench::new(Faults::default());
    bench.write(".env", "HARBOUR_KEY=sesame-open-now\n");
    let service = bench.serve();
    bench.write("ranking.toml", "[[rank]]\nsources = [\"harbour\"]\n");
    bench.change("collectors/daily.toml", "since = \"2016-01-04\"", "since = \"2017-01-04\"");
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["reload"]).code, 0, "nothing has changed");
    std::fs::remove_file(bench.config().join("ranking.toml")).unwrap();
    assert_eq!(service.cli(&["reload"]).code, 0);
    bench.write("ranking.toml", "this is no ranking");
    assert_eq!(service.cli(&["reload"]).code, 1, "what is refused is not accepted");

    let list = service.cli(&["history"]);
    let lines: Vec<&str> = list.out.lines().collect();
    assert_eq!(lines.len(), 4, "{}", list.out);
    assert!(lines[1].trim_start().starts_with("3 ") && lines[1].ends_with("ranking.toml gone"), "{}", list.out);
    assert!(lines[2].ends_with("collectors/daily.toml changed, ranking.toml new"), "{}", list.out);
    assert!(lines[3].ends_with("the first that is kept"), "{}", list.out);
    let second = service.cli(&["history", "2"]).out;
    assert!(second.contains("  -since = \"2016-01-04\"\n  +since = \"2017-01-04\"\n"), "{second}");
    assert!(second.contains("collectors/daily.toml: changed, 1 line added, 1 removed"), "{second}");
    assert_eq!(service.cli(&["history", "2", "ranking.toml"]).out, "[[rank]]\nsources = [\"harbour\"]\n", "as it stood");
    let json = service.cli(&["history", "2", "--json"]).json();
    assert_eq!(json["changes"][1]["change"], "new");
    for (args, told) in [
        (vec!["history", "9"], "there is no configuration `9`"),
        (vec!["history", "2", "rankings.toml"], "did you mean ranking.toml?"),
        (vec!["history", "1", ".env"], "there is no file `.env`"),
    ] {
        let refused = service.cli(&args);
        assert!(refused.code == 1 && refused.err.contains(told), "{refused:?}");
    }
    assert_eq!(service.stop(), Some(0));
    let database = std::fs::read(bench.data().join("mizuno.db")).unwrap();
    assert!(!database.windows(15).any(|w| w == b"sesame-open-now"), "keys are no part of what is kept");
}
