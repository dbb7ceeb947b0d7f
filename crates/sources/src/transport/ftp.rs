//! A directory of files at an FTP server (RFC 959), in passive mode.

use super::{Attempt, Call};
use crate::{Failure, failure::Class};
use mizuno_config::profile::Limits;
use std::{
    io::Read,
    net::{SocketAddr, TcpStream, ToSocketAddrs},
    time::{Duration, Instant},
};
use suppaftp::{FtpError, FtpStream, Status, types::FileType};

pub(super) async fn read(limits: &Limits, call: &Call) -> Attempt {
    let most = limits.largest_answer();
    within(limits, call, move |ftp, path, deadline| {
        let mut stream = ftp.retr_as_stream(path)?;
        let (body, whole) = read_all(&mut stream, most, deadline)?;
        if whole {
            stream.finish()?;
        }
        Ok(Attempt::bounded(body, most))
    })
    .await
    .unwrap_or_else(failed)
}

/// Reads a data connection to its end, within bounds of bytes and time; whether the end was reached.
fn read_all(stream: &mut impl Read, most: usize, deadline: Instant) -> Result<(Vec<u8>, bool), FtpError> {
    let mut body = vec![];
    let mut piece = [0u8; 65_536];
    loop {
        let n = stream.read(&mut piece).map_err(FtpError::ConnectionError)?;
        body.extend_from_slice(&piece[..n]);
        if n == 0 || body.len() > most {
            return Ok((body, n == 0));
        }
        if Instant::now() > deadline {
            return Err(FtpError::ConnectionError(std::io::ErrorKind::TimedOut.into()));
        }
    }
}

fn failed(failure: Failure) -> Attempt {
    Attempt { failure: Some(failure), ..Attempt::answered(None) }
}

pub(super) async fn names(limits: &Limits, call: &Call) -> (Attempt, Vec<String>) {
    let most = limits.largest_answer();
    let listed = within(limits, call, move |ftp, path, deadline| {
        let command = if path.is_empty() { "NLST".to_owned() } else { format!("NLST {path}") };
        let (_, mut stream) = ftp.custom_data_command(command, &[Status::AboutToSend, Status::AlreadyOpen])?;
        let (body, whole) = read_all(&mut stream, most, deadline)?;
        if whole {
            stream.finish()?;
        }
        Ok(String::from_utf8_lossy(&body).lines().map(|l| l.trim_end().to_owned()).filter(|l| !l.is_empty()).collect())
    })
    .await;
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
        let ftp = FtpStream::connect_timeout(address, patience).map_err(broken)?;
        // Data comes from the host that was asked, whatever address its answer names, and a connection that stalls is given up.
        let mut ftp = ftp.passive_stream_builder(move |named| {
            let data =
                TcpStream::connect_timeout(&SocketAddr::new(address.ip(), named.port()), patience).map_err(FtpError::ConnectionError)?;
            data.set_read_timeout(Some(patience)).map_err(FtpError::ConnectionError)?;
            data.set_write_timeout(Some(patience)).map_err(FtpError::ConnectionError)?;
            Ok(data)
        });
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
    // Every step has a time-out of its own; together they take no longer than this, and a thread that is stuck is left behind.
    match tokio::time::timeout(patience * 2, done).await {
        Ok(done) => done.unwrap_or_else(|e| Err(Failure::new(Class::Unreachable, e))),
        Err(_) => Err(Failure::new(Class::TimedOut, "the FTP server did not come to an end in time")),
    }
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
