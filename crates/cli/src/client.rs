//! The service, as its client sees it.

use crate::{Common, exit::Failure};
use mizuno_api::{Problem, Run, Status, words::escaped};
use reqwest::{Method, Response};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;

/// A connection to the service, and how the person wants results.
pub struct Client {
    http: reqwest::Client,
    base: String,
    /// Print JSON instead of tables.
    pub json: bool,
}

impl Client {
    pub fn new(common: &Common) -> Result<Client, Failure> {
        let _ = rustls::crypto::ring::default_provider().install_default();
        // Turns go round between clients: two users of one machine are two.
        let user: String = std::env::var("USER").unwrap_or_default().chars().filter(char::is_ascii_alphanumeric).collect();
        let agent = format!("mizuno/{} ({user})", env!("CARGO_PKG_VERSION"));
        let http = reqwest::Client::builder().no_proxy().user_agent(agent).build().map_err(Failure::new)?;
        Ok(Client { http, base: common.service.trim_end_matches('/').to_owned(), json: common.json })
    }

    /// Sends a request and returns the answer, or the problem the service names.
    pub async fn send<B: Serialize + ?Sized>(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, &str)],
        body: Option<&B>,
    ) -> Result<Response, Failure> {
        let mut request = self.http.request(method, format!("{}/api/v1{path}", self.base)).query(query);
        if let Some(body) = body {
            request = request.json(body);
        }
        self.answer(request).await
    }

    /// Sends a text of some media type.
    pub async fn send_text(&self, path: &str, kind: &str, query: &[(&str, &str)], text: String) -> Result<Response, Failure> {
        let request = self.http.post(format!("{}/api/v1{path}", self.base)).query(query);
        self.answer(request.header(reqwest::header::CONTENT_TYPE, kind).body(text)).await
    }

    /// The address of the service.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// A request of an address of the service, to be sent with [`Client::answer`].
    pub fn request(&self, address: &str) -> reqwest::RequestBuilder {
        self.http.get(address)
    }

    /// Sends a request and returns the answer, or the problem the service names.
    pub async fn answer(&self, request: reqwest::RequestBuilder) -> Result<Response, Failure> {
        let response = request.send().await.map_err(|e| {
            let why = if e.is_connect() { "nothing listens there" } else { "the connection broke" };
            Failure::unreachable(format!(
                "no answer from {}: {why}; start one with `mizuno serve` or `mizuno demo`, or name another with --service",
                self.base
            ))
        })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        Err(match response.json::<Problem>().await {
            Ok(problem) => Failure::refused(problem),
            Err(_) => Failure::new(format!("{} answered {status}, and not as a mizuno does; is it another program?", self.base)),
        })
    }

    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, &str)]) -> Result<T, Failure> {
        let response = self.send::<()>(Method::GET, path, query, None).await?;
        self.read(response).await
    }

    /// Reads an answer. What is shown to a person has no control characters in it, wherever it came from; a program gets it whole.
    async fn read<T: DeserializeOwned>(&self, response: Response) -> Result<T, Failure> {
        let wrong =
            |e: &dyn std::fmt::Display| Failure::new(format!("the answer cannot be read ({e}); is the service of another version?"));
        if self.json {
            return response.json().await.map_err(|e| wrong(&e));
        }
        let mut value: Value = response.json().await.map_err(|e| wrong(&e))?;
        escape(&mut value);
        serde_json::from_value(value).map_err(|e| wrong(&e))
    }

    pub async fn post<T: DeserializeOwned, B: Serialize>(&self, path: &str, body: &B) -> Result<T, Failure> {
        let response = self.send(Method::POST, path, &[], Some(body)).await?;
        self.read(response).await
    }

    pub async fn run(&self, id: i64) -> Result<Run, Failure> {
        self.get(&format!("/runs/{id}"), &[]).await
    }

    /// The zone to show times in: the venue's when there is one venue, else UTC.
    pub async fn zone(&self) -> Result<crate::show::Zone, Failure> {
        let status: Status = self.get("/status", &[]).await?;
        Ok(crate::show::Zone::of(&status))
    }
}

/// Escapes every text in a value.
pub fn escape(value: &mut Value) {
    match value {
        Value::String(text) => *text = escaped(text),
        Value::Array(items) => items.iter_mut().for_each(escape),
        Value::Object(entries) => {
            let all = std::mem::take(entries);
            entries.extend(all.into_iter().map(|(key, mut value)| {
                escape(&mut value);
                (escaped(&key), value)
            }));
        }
        _ => {}
    }
}
