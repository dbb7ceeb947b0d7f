//! A key at work: found, carried, obtained by a login and renewed.

use crate::{
    Clock, Failure, decode,
    failure::Class,
    request::Words,
    secret::{Covered, Secrets},
    transport::{Call, Transport},
};
use base64::Engine;
use mizuno_config::{
    Profile,
    profile::{Key, Limits, Login},
};
use mizuno_core::Timestamp;
use std::sync::{Arc, Mutex as Plain, PoisonError};
use tokio::sync::Mutex;

/// What a login obtained.
pub(crate) struct Token {
    pub value: String,
    /// Whether a call was made for it just now.
    pub fresh: bool,
}

/// The key of one source.
pub(crate) struct Credentials {
    key: Option<Key>,
    secret: Option<String>,
    user: Option<String>,
    token: Mutex<Option<(String, Timestamp)>>,
    covered: Plain<Covered>,
}

/// A token is renewed this long before it ends, in microseconds.
const EARLY: i64 = 30_000_000;

impl Credentials {
    pub(crate) fn new(profile: &Profile, secrets: &Secrets) -> Arc<Credentials> {
        let key = profile.key.clone();
        let secret = key.as_ref().and_then(|k| secrets.get(&k.env));
        let user = key.as_ref().and_then(|k| secrets.get(k.user_env.as_ref()?));
        let mut covered = Covered::default();
        secret.iter().for_each(|s| covered.add(s));
        if let (Some(user), Some(secret), Some(true)) = (&user, &secret, key.as_ref().map(|k| k.basic)) {
            covered.add(&basic(user, secret));
        }
        Arc::new(Credentials { key, secret, user, token: Mutex::new(None), covered: Plain::new(covered) })
    }

    /// Whether the environment still says what it said when these were found.
    pub(crate) fn are_those_of(&self, secrets: &Secrets) -> bool {
        let found = |name: Option<&String>| name.and_then(|n| secrets.get(n));
        let key = self.key.as_ref();
        self.secret == found(key.map(|k| &k.env)) && self.user == found(key.and_then(|k| k.user_env.as_ref()))
    }

    /// Whether there is a key to carry.
    pub(crate) fn present(&self) -> bool {
        self.secret.is_some()
    }

    /// What must not be seen.
    pub(crate) fn covered(&self) -> Covered {
        self.covered.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The token that the next call carries, where the key obtains one, logged in for where nobody else just has.
    pub(crate) async fn log_in(&self, base: &str, via: &Transport, limits: &Limits, clock: &Clock) -> Result<Option<Token>, Failure> {
        let (Some(Some(login)), Some(secret)) = (self.key.as_ref().map(|k| &k.login), &self.secret) else { return Ok(None) };
        self.token(login, secret, base, via, limits, clock).await.map(Some)
    }

    /// Puts the key, or the token it obtained, into a call.
    pub(crate) fn carry(&self, call: &mut Call, token: Option<&str>) -> Result<(), Failure> {
        let Some(key) = &self.key else { return Ok(()) };
        let Some(secret) = &self.secret else {
            return match key.required {
                true => Err(Failure::new(
                    Class::NoKey,
                    format!("the variable {} is not set; set it in the environment or in the file .env of the configuration", key.env),
                )),
                false => Ok(()),
            };
        };
        let value = token.unwrap_or(secret);
        if let Some(header) = &key.header {
            call.header = Some((header.clone(), format!("{}{value}", key.prefix)));
        } else if let Some(name) = &key.query {
            let mut url = reqwest::Url::parse(&call.url).map_err(|e| Failure::new(Class::BadRequest, format!("not an address: {e}")))?;
            url.query_pairs_mut().append_pair(name, value);
            call.url = url.to_string();
        } else {
            call.login = Some((self.user.clone().unwrap_or_default(), value.to_owned()));
        }
        Ok(())
    }

    /// Forgets a token that was refused; the next call logs in again, unless another has already.
    pub(crate) async fn forget(&self, refused: &str) {
        let mut token = self.token.lock().await;
        if token.as_ref().is_some_and(|(kept, _)| kept == refused) {
            *token = None;
        }
    }

    /// The token that is kept, or a new one.
    async fn token(
        &self,
        login: &Login,
        secret: &str,
        base: &str,
        via: &Transport,
        limits: &Limits,
        clock: &Clock,
    ) -> Result<Token, Failure> {
        let mut token = self.token.lock().await;
        if let Some((token, until)) = &*token
            && clock.now() < *until
        {
            return Ok(Token { value: token.clone(), fresh: false });
        }
        let mut words = Words::default();
        words.set("key", secret);
        words.set("user", self.user.as_deref().unwrap_or_default());
        let call = Call { url: words.address(base, &login.post)?, body: Some(words.json(&login.body)), ..Call::default() };
        let attempt = via.send(limits, &call, clock.now()).await;
        if let Some(failure) = attempt.failure {
            return Err(Failure::new(failure.class, format!("the login failed: {}", self.covered().text(&failure.message))));
        }
        let body = attempt.body.unwrap_or_default();
        let found = decode::text_at(&body, &login.token);
        let found = found.ok_or_else(|| Failure::new(Class::Denied, format!("the login answered without a token at `{}`", login.token)))?;
        let lasts = login.lasts.as_ref().and_then(|pointer| decode::text_at(&body, pointer)).and_then(|t| t.parse::<f64>().ok());
        let lasts = lasts.map_or(login.lasts_for, |seconds| (seconds * 1e6) as i64);
        self.covered.lock().unwrap_or_else(PoisonError::into_inner).add(&found);
        *token = Some((found.clone(), clock.now().plus((lasts - EARLY).max(lasts / 2))));
        Ok(Token { value: found, fresh: true })
    }
}

/// Name and password as Basic writes them (RFC 7617).
fn basic(user: &str, password: &str) -> String {
    base64::engine::general_purpose::STANDARD.encode(format!("{user}:{password}"))
}
