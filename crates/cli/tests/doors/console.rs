//! The console in headless Chromium: what a person sees, and what they do about it.

use crate::common::{Bench, Service, browser::Browser};
use fantoccini::Locator;
use mizuno_sim::faults::Faults;
use serde_json::json;
use std::time::Duration;

async fn loaded() -> (Bench, Service) {
    let bench = Bench::new(Faults::of_the_demo());
    let service = bench.serve();
    service.cli(&["collect", "daily", "--from", "2025-01-06"]);
    service.cli(&["collect", "minutes", "--from", "2025-04-01"]);
    (bench, service)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_sees_what_is_wrong_and_mends_it() {
    let (_bench, service) = loaded().await;
    let browser = Browser::open().await;

    browser.page.goto(&service.url).await.unwrap();
    browser.sees("need a person").await;
    browser.sees("1 bar came that cannot be true").await;
    browser.sees("mending the quay").await;
    assert!(!browser.text().await.contains("All clear"));

    browser.page.goto(&format!("{}/coverage?interval=1m", service.url)).await.unwrap();
    browser.page.wait().for_element(Locator::Css(".map canvas")).await.unwrap();
    browser.page.goto(&format!("{}/instruments/QHC?interval=1m&at=2025-04-02", service.url)).await.unwrap();
    browser.sees("2025-04-02 13:30 to 16:45 Pacific/Auckland").await;
    let chart = browser.page.wait().for_element(Locator::Css(".chart")).await.unwrap();
    let label = chart.attr("aria-label").await.unwrap().unwrap();
    assert!(label.starts_with("Candles of ") && label.ends_with(" gaps"), "{label}");
    assert!(!label.ends_with(" 0 gaps"), "bars that were made coarser to fit show what is missing, too: {label}");

    let row = "//tr[@data-gap][contains(., '2025-04-02 13:30')]";
    browser.press(&format!("{row}//button[contains(., 'Repair')]")).await;
    browser.no_longer_sees("2025-04-02 13:30 to 16:45").await;
    let left = service.get("/gaps?instrument=QHC&interval=1m&from=2025-04-02&to=2025-04-02").await;
    assert_eq!(left, json!([]), "the repair reached the store");

    browser.page.goto(&format!("{}/instruments/CRK?interval=1d", service.url)).await.unwrap();
    browser.press("//tr[@data-gap][contains(., '2025-04-03')]//button[contains(., 'Excuse')]").await;
    browser.page.wait().for_element(Locator::Css("textarea[name=note]")).await.unwrap().send_keys("misprint").await.unwrap();
    browser.decides("mere", "Excuse").await;
    browser.sees("1 excused").await;
    let excuses = service.get("/excuses").await;
    assert_eq!((excuses[0]["by"].as_str(), excuses[0]["note"].as_str()), (Some("mere"), Some("misprint")));
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_tried_and_what_was_set_aside_is_seen_and_found() {
    let (_bench, service) = loaded().await;
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/sources", service.url)).await.unwrap();
    browser.sees("asked as needed").await;
    browser.press("//button[normalize-space(.) = 'Try']").await;
    browser.sees("rows understood").await;
    browser.sees("Harbour Quotes -- a courtesy").await;
    assert_eq!(service.get("/runs").await.as_array().unwrap().len(), 2, "a try is no run");

    browser.page.goto(&format!("{}/aside", service.url)).await.unwrap();
    browser.sees("high-below-low").await;
    browser.sees("Nothing has been accepted").await;
    browser.press("//a[contains(., 'CRK/1d/harbour')]").await;
    browser.sees("Crake Foundry").await;

    browser.page.goto(&format!("{}/instruments?q=gul", service.url)).await.unwrap();
    browser.sees("Tern Airways").await;
    browser.sees("GUL until 2025-02-03").await;
    browser.page.goto(&format!("{}/instruments?q=nobody+has+this", service.url)).await.unwrap();
    browser.sees("No instrument has all of").await;
    browser.page.goto(&format!("{}/instrument/KBF", service.url)).await.unwrap();
    browser.sees("The console has no page /instrument/KBF").await;
    browser.press("//main//a[. = 'this morning']").await;
    browser.sees("1 bar came that cannot be true").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_moves_on_the_page_while_it_is_at_work() {
    let bench = Bench::new(Faults::only(vec![mizuno_sim::faults::Fault::Slow { millis: 300 }]));
    let service = bench.serve();
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/runs", service.url)).await.unwrap();
    browser.sees("Nothing has run yet").await;
    let begun = service.cli(&["collect", "daily", "--from", "2025-03-01", "--no-wait", "--json"]).json();
    browser.sees("running").await;
    browser.press("//button[contains(., 'Cancel')]").await;
    browser.sees("cancelled").await;
    let run = service.get(&format!("/runs/{}", begun["id"])).await;
    assert_eq!(run["state"], "cancelled");
    browser.page.goto(&format!("{}/runs/{}", service.url, begun["id"])).await.unwrap();
    browser.sees("/1d/harbour").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_belonged_when_and_where_a_chain_rolls_is_drawn() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    bench.files(&["chains/tdp-front.toml"]);
    let service = bench.serve();
    for list in ["almanack/aldermere-12", "almanack/aldermere-12-changes"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    let browser = Browser::open().await;
    browser.page.goto(&service.url).await.unwrap();
    browser.press("//a[contains(., '2 doubts in who belongs to aldermere-12')]").await;
    browser.sees("12 members on 2025-04-10: DNL, FNR, GRB").await;
    browser.sees("RSB: a member from 2019-06-24 until 2025-03-14 by almanack/aldermere-12").await;
    let grebe = Locator::XPath("//div[@class='row'][a[normalize-space(.) = 'GRB']]//span[contains(@class, 'stay')]");
    assert_eq!(browser.page.find_all(grebe).await.unwrap().len(), 2, "it left and came back");
    browser.page.find(Locator::Css("input[name=on]")).await.unwrap().send_keys("2020-01-06\n").await.unwrap();
    browser.sees("12 members on 2020-01-06: CRK, HTH").await;
    browser.press("//a[normalize-space(.) = 'take its bars']").await;
    browser.sees("Take bars").await;

    browser.page.goto(&format!("{}/chains", service.url)).await.unwrap();
    browser.sees("It has not rolled yet").await;
    assert_eq!(service.cli(&["collect", "corf-daily", "-i", "TDP-2025-03", "-i", "TDP-2025-04", "-i", "TDP-2025-05"]).code, 0);
    browser.page.refresh().await.unwrap();
    browser.sees("5 sessions before the last trading day").await;
    browser.sees("TDP-2025-05").await;
    let standing = browser.page.find_all(Locator::Css(".lines .stands")).await.unwrap();
    assert_eq!(standing.len(), 3, "each stands in its sessions");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_is_made_verified_compared_and_withdrawn() {
    let (bench, service) = loaded().await;
    edition(&bench);
    assert_eq!(service.cli(&["reload"]).code, 0);
    let spec = std::fs::read_to_string(bench.config().join("editions/desk.toml")).unwrap();
    let table = "keep = 1\n[table]\nname = \"desk_bars\"\nintervals = [\"1d\"]\ninstruments = [\"KBF\"]\n[[file]]";
    bench.write("editions/desk.toml", &spec.replacen("[[file]]", table, 1));
    assert_eq!(service.cli(&["reload"]).code, 0);
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/editions", service.url)).await.unwrap();
    browser.sees("None was made yet").await;
    let make = async || {
        browser.press("//button[starts-with(normalize-space(.), 'Make one now')]").await;
        browser.decides("mere", "Make it").await;
    };
    make().await;
    browser.sees("desk/1 (2025-04-09)").await;
    browser.press("//button[normalize-space(.) = 'Make again and compare']").await;
    browser.sees("files are as they were made, and made again they are the same").await;
    browser.press("//button[normalize-space(.) = 'For SQL engines']").await;
    browser.sees("CREATE EXTERNAL TABLE desk_bars").await;
    browser.press("//a[normalize-space(.) = 'Take bars' and ancestor::p]").await;
    browser.page.goto(&format!("{}/questions?instruments=KBF&columns=date,close", service.url)).await.unwrap();
    browser.sees("FROM desk_bars b").await;
    browser.page.goto(&format!("{}/questions?instruments=KBF&layout=wide", service.url)).await.unwrap();
    browser.sees("SQL does not say this. layout: ").await;
    browser.page.goto(&format!("{}/editions", service.url)).await.unwrap();
    // What is pinned stays when others expire; let go, it can be taken away.
    browser.press("//button[normalize-space(.) = 'Keep it…']").await;
    browser.page.wait().for_element(Locator::Css("input[name=why]")).await.unwrap().send_keys("a study").await.unwrap();
    browser.decides("mere", "Keep it").await;
    browser.sees("kept by mere: a study").await;
    let action = json!({ "actions": [{ "instrument": "KBF", "kind": "split", "terms": { "ex_date": "2025-03-03", "new": "2", "old": "1" } }], "by": "mere", "reason": "letter" });
    assert_eq!(service.post("/actions", &action).await.0, 201);
    make().await;
    browser.sees("desk/2 (2025-04-09)").await;
    browser.press("//button[normalize-space(.) = 'Differences from 1']").await;
    browser.sees("From 1 (2025-04-09) to 2 (2025-04-09)").await;
    let row = Locator::XPath("//tr[td[normalize-space(.) = 'desk-days']]");
    let told = browser.page.wait().for_element(row).await.unwrap().text().await.unwrap();
    assert!(told.contains("changed action"), "{told}");
    browser.press("//button[starts-with(normalize-space(.), 'Withdraw')]").await;
    browser.page.wait().for_element(Locator::Css("input[name=why]")).await.unwrap().send_keys("the split is wrong").await.unwrap();
    browser.decides("mere", "Withdraw it").await;
    browser.sees("withdrawn by mere: the split is wrong").await;
    browser.page.goto(&format!("{}/api/v1/editions/desk/1/files/index.html", service.url)).await.unwrap();
    browser.sees("Coverage by month, 2025-01 to 2025-04").await;
    browser.page.goto(&format!("{}/editions/desk/1", service.url)).await.unwrap();
    browser.press("//button[normalize-space(.) = 'Let it expire']").await;
    browser.sees("The newest 1 is kept; 1 is still here").await;
    browser.press("//button[normalize-space(.) = 'Take away…']").await;
    browser.press("//button[normalize-space(.) = 'Take them away']").await;
    browser.no_longer_sees("is still here").await;
    browser.sees("expired").await;
    browser.close().await;
}

/// An edition of some days, cut into two files.
fn edition(bench: &Bench) {
    bench.write(
        "questions/desk-days.toml",
        "instruments = [\"KBF\", \"OXB\"]\ncolumns = [\"instrument\", \"date\", \"close\"]\nadjust = \"splits\"\n",
    );
    bench.write(
        "editions/desk.toml",
        "venue = \"ALDX\"\n[[file]]\nname = \"days/{instrument}.csv\"\nquestion = \"desk-days\"\ncut = [\"instrument\"]\n",
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_doubt_is_read_accepted_and_two_sources_are_compared() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    for collector in ["aldx-minutes", "lodestar-minutes", "cellar-minutes"] {
        service.cli(&["collect", collector, "-i", "WIG", "--from", "2025-04-07", "--to", "2025-04-08"]);
    }
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/trust", service.url)).await.unwrap();
    let row = "//tr[@data-finding][contains(., 'WIG/1m/lodestar')]";
    browser.sees("cellar and harbour say otherwise").await;
    browser.press(&format!("{row}//button[contains(., 'Accept')]")).await;
    browser.page.wait().for_element(Locator::Css("textarea[name=note]")).await.unwrap().send_keys("a real trade").await.unwrap();
    browser.decides("mere", "Excuse").await;
    browser.page.wait().for_element(Locator::XPath(&format!("{row}//td[normalize-space(.) = 'accepted']"))).await.unwrap();
    let excuses = service.get("/excuses").await;
    assert_eq!((excuses[0]["finding"].as_str(), excuses[0]["by"].as_str()), (Some("spike"), Some("mere")));

    browser.page.goto(&format!("{}/trust?here=WIG/1m/harbour&there=WIG/1m/lodestar&to=2025-04-08", service.url)).await.unwrap();
    browser.page.wait().for_element(Locator::Css("[data-compared]")).await.unwrap();
    browser.sees("differ").await;
    browser.sees("≠").await;

    browser.page.goto(&format!("{}/instruments/WIG?interval=1m&at=2025-04-08", service.url)).await.unwrap();
    browser.sees("The best of harbour, then lodestar, then cellar").await;
    browser.close().await;
}

/// What of a page is wider than the window, what is written in a colour too near to its background, and what was left unsaid.
const AMISS: &str = r#"
    const out = [];
    const wide = document.documentElement.scrollWidth - window.innerWidth;
    if (wide > 0) out.push(`the page is ${wide} pixels wider than the window`);
    const parts = (c) => (c.match(/[\d.]+/g) ?? []).map(Number);
    const light = ([r, g, b]) => {
      const [x, y, z] = [r, g, b].map((v) => (v / 255 <= 0.04045 ? v / 255 / 12.92 : ((v / 255 + 0.055) / 1.055) ** 2.4));
      return 0.2126 * x + 0.7152 * y + 0.0722 * z;
    };
    const over = (front, back) => front.slice(0, 3).map((v, i) => v * (front[3] ?? 1) + back[i] * (1 - (front[3] ?? 1)));
    const behind = (e) => {
      if (!e) return [255, 255, 255];
      const own = parts(getComputedStyle(e).backgroundColor);
      return own.length === 0 || own[3] === 0 ? behind(e.parentElement) : over(own, own[3] === undefined ? own : behind(e.parentElement));
    };
    for (const e of document.querySelectorAll("body *")) {
      const words = [...e.childNodes].filter((n) => n.nodeType === 3).map((n) => n.textContent.trim()).join(" ").trim();
      const style = getComputedStyle(e);
      if (!words || !e.checkVisibility({ opacityProperty: true, visibilityProperty: true }) || e.closest("button[disabled]")) continue;
      if (/\b(undefined|NaN|null|Invalid Date)\b|\[object/.test(words)) out.push(`it says “${words.slice(0, 60)}”`);
      const back = behind(e);
      const [a, b] = [light(over(parts(style.color), back)), light(back)];
      const contrast = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
      if (contrast < 4.5) out.push(`“${words.slice(0, 40)}” stands at ${contrast.toFixed(1)} against its background`);
    }
    return [...new Set(out)];
"#;

#[tokio::test(flavor = "multi_thread")]
async fn every_page_can_be_read_when_empty_when_full_in_a_narrow_window_and_in_the_dark() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    edition(&bench);
    let service = bench.serve();
    let browser = Browser::open().await;
    let pages = [
        "/",
        "/editions",
        "/universes",
        "/chains",
        "/coverage",
        "/instruments",
        "/instruments/WIG?interval=1m&at=2025-04-08",
        "/questions",
        "/questions?instruments=KBF,OXB,AL*&layout=wide&last=20",
        "/questions?instruments=NIX",
        "/questions?instruments=KBF&since=2025-04-01T00:00:00Z&round=1",
        "/configuration",
        "/runs",
        "/runs/1",
        "/sources",
        "/trust",
        "/aside",
        "/no-such-page",
    ];
    let mut amiss = vec![];
    for full in [false, true] {
        if full {
            for collector in ["aldx-daily", "aldx-minutes", "lodestar-minutes"] {
                service.cli(&["collect", collector, "--from", "2025-04-01", "--to", "2025-04-09"]);
            }
            assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
        }
        for (width, theme) in [(420, "light"), (1280, "dark")] {
            browser.page.goto(&service.url).await.unwrap();
            browser.page.execute(&format!("localStorage.setItem('theme', '{theme}')"), vec![]).await.unwrap();
            browser.page.set_window_size(width, 900).await.unwrap();
            for page in pages {
                browser.page.goto(&format!("{}{page}", service.url)).await.unwrap();
                browser.sees("Tarn Street Desk").await;
                tokio::time::sleep(Duration::from_millis(600)).await;
                let found = browser.page.execute(AMISS, vec![]).await.unwrap();
                amiss.extend(found.as_array().unwrap().iter().map(|f| format!("{page}, {width} wide, {theme}, full {full}: {f}")));
            }
        }
    }
    browser.close().await;
    assert!(amiss.is_empty(), "{amiss:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_many_series_miss_is_one_row_and_a_concern_opens_what_it_speaks_of() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "almanack/splits"]).code, 0);
    for collector in ["cellar-minutes", "aldx-daily"] {
        service.cli(&["collect", collector]);
    }
    let browser = Browser::open().await;
    browser.page.goto(&service.url).await.unwrap();
    let hole = "//tr[@data-hole][contains(., '24 of 25') and contains(., '2025-04-03')]";
    browser.page.wait().for_element(Locator::XPath(hole)).await.unwrap();
    assert!(!browser.text().await.contains("KBF/1m/cellar"), "twenty-three gaps are one row");
    browser.press(&format!("{hole}//button[contains(., 'Unfold')]")).await;
    browser.sees("KBF/1m/cellar").await;
    let rows = browser.page.find_all(Locator::XPath(&format!("{hole}/following-sibling::tr[1]//tr[@data-gap]"))).await.unwrap();
    assert_eq!(rows.len(), 24, "unfolded it is all of them");

    browser.press("//li//a[contains(., 'cannot be true')]").await;
    browser.sees("high-below-low").await;
    browser.page.goto(&service.url).await.unwrap();
    browser.press("//li//a[contains(., 'failed in the last 24 hours')]").await;
    browser.sees("fetches that failed").await;
    browser.sees("not-listed").await;
    browser.page.goto(&service.url).await.unwrap();
    browser.press("//li//a[contains(., 'every attempt to fetch it failed')]").await;
    browser.sees("all causes").await;
    assert!(browser.page.current_url().await.unwrap().query().unwrap().contains("cause=fetch-failed"));

    // Prices fall to a quarter, and the chart says why.
    browser.page.goto(&format!("{}/instruments/SME?days=365", service.url)).await.unwrap();
    let chart = browser.page.wait().for_element(Locator::Css(".chart[aria-label*='split 4 for 1']")).await.unwrap();
    assert!(chart.attr("aria-label").await.unwrap().unwrap().starts_with("Candles of "));
    browser.sees("prices before × 1/4, volumes × 4").await;
    // Adjusted, the files that are offered are too.
    browser.page.goto(&format!("{}/instruments/SME?days=365&adjust=splits", service.url)).await.unwrap();
    browser.sees("adjusted for splits").await;
    browser.page.wait().for_element(Locator::Css("a[href*='adjust=splits']")).await.unwrap();
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_changed_in_the_configuration_is_unfolded_and_a_question_keeps_keys_that_have_no_field() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    bench.write("ranking.toml", "[[rank]]\nsources = [\"harbour\"]\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01"]).code, 0);
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/configuration", service.url)).await.unwrap();
    browser.sees("the first that is kept").await;
    browser.press("//a[contains(., 'ranking.toml new')]").await;
    browser.sees("+sources = [").await;
    browser.sees("2 lines added, 0 removed").await;
    browser.page.goto(&format!("{}/questions?series=KBF/1d/harbour&since=2025-04-01T00:00:00Z&round=1", service.url)).await.unwrap();
    browser.sees("Only what has changed since 2025-04-01T00:00:00Z is written").await;
    browser.sees("under configuration 2").await;
    browser.sees("old_close").await;
    let more = browser.page.wait().for_element(Locator::Css("input[name=more]")).await.unwrap();
    assert_eq!(more.prop("value").await.unwrap().as_deref(), Some("series=KBF/1d/harbour&round=1"), "keys without a field stand in one");
    more.send_keys("&delisting=mere").await.unwrap();
    browser.press("//button[contains(., 'Explain')]").await;
    browser.sees("is not a way to end").await;
    more.send_keys(&format!("{}last-price", "\u{E003}".repeat("mere".len()))).await.unwrap();
    browser.press("//button[contains(., 'Explain')]").await;
    browser.sees("delisting=last-price").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_action_is_entered_and_withdrawn_by_a_person() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-03"]).code, 0);
    let browser = Browser::open().await;
    browser.page.goto(&format!("{}/instruments/KBF?interval=1d", service.url)).await.unwrap();
    browser.sees("No list and nobody has told of any").await;
    let fill = async |name: &str, text: &str| {
        let field = format!("input[name={name}]");
        browser.page.wait().for_element(Locator::Css(&field)).await.unwrap().send_keys(text).await.unwrap();
    };
    browser.press("//button[starts-with(normalize-space(.), 'Enter one')]").await;
    for (name, text) in [("ex_date", "2025-03-17"), ("new", "2"), ("why", "a letter")] {
        fill(name, text).await;
    }
    // What lacks is told, and what was written stays.
    browser.decides("mere", "Enter it").await;
    browser.sees("old: it is missing").await;
    fill("old", "1").await;
    browser.press("//button[normalize-space(.) = 'Enter it']").await;
    browser.sees("split 2 for 1").await;
    browser.sees("prices before × 1/2, volumes × 2").await;
    browser.sees("a letter").await;
    browser.press("//button[starts-with(normalize-space(.), 'Withdraw')]").await;
    fill("why", "entered twice").await;
    browser.decides("mere", "Withdraw it").await;
    browser.sees("No list and nobody has told of any").await;
    browser.close().await;
}
