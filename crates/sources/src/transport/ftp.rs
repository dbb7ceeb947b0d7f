//! A directory of files at an FTP server (RFC 959), in passive mode.

use super::{Attempt, Call};
use crate::{Failure, failure::Class};
use mizuno_config::profile::Limits;
use std::{
    io::Read,
    net::ToSocketAddrs,
    time::{Duration, Instant},
};
use suppaftp::{FtpError, FtpStream, Status, types::FileType};

pub(super) async fn read(limits: &Limits, call: &Call) -> Attempt {
    let most = limits.largest_answer();
    within(limits, call, move |ftp, path, deadline| {
        let mut stream = ftp.retr_as_stream(path)?;
        let mut body = vec![];
        let mut piece = [0u8; 65_536];
        loop {
            let n = stream.read(&mut piece).map_err(FtpError::ConnectionError)?;
            body.extend_from_slice(&piece[..n]);
            if n == 0 || body.len() > most {
                break;
            }
            if Instant::now() > deadline {
                return Err(FtpError::ConnectionError(std::io::ErrorKind::TimedOut.into()));
            }
        }
        if body.len() <= most {
            stream.finish()?;
        }
        Ok(Attempt::bounded(body, most))
    })
    .await
    .unwrap_or_else(failed)
}

fn failed(failure: Failure) -> Attempt {
    Attempt { failure: Some(failure), ..Attempt::answered(None) }
}

pub(super) async fn names(limits: &Limits, call: &Call) -> (Attempt, Vec<String>) {
    let listed = within(limits, call, |ftp, path, _| ftp.nlst(Some(path).filter(|p| !p.is_empty()))).await;
    match listed {
        Ok(names) => (Attempt::answered(None), names),
        Err(failure) => (failed(failure), vec![]),
    }
}

/// Connects, logs in, does `work` and takes leave, all within the source's timeout.
async fn within<T, F>(limits: &Limits, call: &Call, work: F) -> Result<T, Failure>
where
    T: Send + 'static,
    F: FnOnce(&mut FtpStream, &str, Instant) -> Result<T, FtpError> + Send + 'static,
{
    let patience = Duration::from_micros(limits.timeout.unsigned_abs());
    let (url, login) = (call.url.clone(), call.login.clone());
    let done = tokio::task::spawn_blocking(move || {
        let bad = |what: &str| Failure::new(Class::BadRequest, format!("{url} is not an FTP address: {what}"));
        let parsed = reqwest::Url::parse(&url).map_err(|e| bad(&e.to_string()))?;
        let host = parsed.host_str().ok_or_else(|| bad("it names no host"))?;
        let deadline = Instant::now() + patience;
        let unresolved = |e: std::io::Error| Failure::new(Class::NameNotResolved, format!("the host's name is not known: {e}"));
        let mut addresses = (host, parsed.port().unwrap_or(21)).to_socket_addrs().map_err(unresolved)?;
        let address = addresses.next().ok_or_else(|| bad("its host has no address"))?;
        let mut ftp = FtpStream::connect_timeout(address, patience).map_err(broken)?;
        // Each look at the socket holds a lock for as long as its statement lasts.
        let _ = ftp.get_ref().set_read_timeout(Some(patience));
        let _ = ftp.get_ref().set_write_timeout(Some(patience));
        let (user, password) = login.as_ref().map_or(("anonymous", "anonymous"), |(u, p)| (u, p));
        ftp.login(user, password).map_err(broken)?;
        ftp.transfer_type(FileType::Binary).map_err(broken)?;
        let path = parsed.path().trim_start_matches('/').to_owned();
        let out = work(&mut ftp, &path, deadline).map_err(broken);
        let _ = ftp.quit();
        out
    });
    done.await.unwrap_or_else(|e| Err(Failure::new(Class::Unreachable, e)))
}

fn broken(error: FtpError) -> Failure {
    let class = match &error {
        FtpError::ConnectionError(e) if matches!(e.kind(), std::io::ErrorKind::TimedOut | std::io::ErrorKind::WouldBlock) => {
            Class::TimedOut
        }
        FtpError::ConnectionError(_) => Class::Unreachable,
        FtpError::UnexpectedResponse(r) => match r.status {
            Status::NotLoggedIn | Status::LoginNeedAccount => Class::Denied,
            Status::FileUnavailable => Class::NotFound,
            Status::NotAvailable => Class::ServerError,
            Status::TransferAborted => Class::CutShort,
            _ => Class::Refused,
        },
        _ => Class::Unreachable,
    };
    Failure::new(class, format!("the FTP server said: {error}"))
}
