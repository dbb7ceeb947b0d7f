//! A headless Chromium, and what a person does with it.

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;
use std::{
    process::{Child, Command, Stdio},
    time::Duration,
};
use tempfile::TempDir;

pub struct Browser {
    driver: Child,
    pub page: Client,
    _profile: TempDir,
}

impl Browser {
    pub async fn open() -> Browser {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver: `make test` installs it");
        let profile = TempDir::new().unwrap();
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--window-size=1280,900",
            &format!("--user-data-dir={}", profile.path().display()),
        ];
        let options = json!({ "goog:chromeOptions": { "args": arguments } });
        for _ in 0..100 {
            let capabilities = options.as_object().unwrap().clone();
            match ClientBuilder::new(HttpConnector::new()).capabilities(capabilities).connect(&format!("http://127.0.0.1:{port}")).await {
                Ok(page) => return Browser { driver, page, _profile: profile },
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
        panic!("the browser does not start");
    }

    pub async fn sees(&self, text: &str) {
        let path = format!("//*[contains(normalize-space(.), \"{text}\")]");
        let wait = self.page.wait().at_most(Duration::from_secs(15));
        assert!(wait.for_element(Locator::XPath(&path)).await.is_ok(), "no `{text}` on the page: {}", self.text().await);
    }

    pub async fn no_longer_sees(&self, text: &str) {
        for _ in 0..150 {
            if !self.text().await.contains(text) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("`{text}` stays on the page");
    }

    pub async fn text(&self) -> String {
        let body = self.page.find(Locator::Css("body")).await.unwrap();
        body.text().await.unwrap_or_default()
    }

    pub async fn press(&self, path: &str) {
        let wait = self.page.wait().at_most(Duration::from_secs(10));
        wait.for_element(Locator::XPath(path)).await.unwrap_or_else(|e| panic!("{path}: {e}")).click().await.unwrap();
    }

    pub async fn close(mut self) {
        let _ = self.page.close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }

    /// Fills in the name of who decides, and presses the button of the dialog.
    pub async fn decides(&self, by: &str, button: &str) {
        let name = self.page.wait().for_element(Locator::Css("input[name=by]")).await.unwrap();
        // What stands there is marked, so that typing takes its place: a browser remembers who decided last.
        name.send_keys(&format!("\u{e009}a\u{e000}{by}")).await.unwrap();
        self.press(&format!("//div[contains(@class, 'n-card')]//button[normalize-space(.) = '{button}']")).await;
    }
}
