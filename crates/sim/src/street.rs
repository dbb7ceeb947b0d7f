//! The street the sources live in: each on a loopback port, every call noted, troubles in front of the door.

use crate::{
    Call, World, almanack, cellar,
    faults::{Fault, Trouble},
    harbour, lodestar, packhorse,
    talk::{Heard, Said},
};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, dev::Server, http::StatusCode, web};
use mizuno_core::{Timestamp, time::SECOND};
use std::{collections::HashMap, io, net::SocketAddr, net::TcpListener, sync::Arc, time::Duration};

/// The sources there are, with the ports of the demo and the calls each allows in a minute.
pub const SOURCES: [(&str, u16, usize); 5] =
    [("harbour", 7411, 600), ("lodestar", 7412, 300), ("packhorse", 7413, 600), ("almanack", 7414, 30), ("cellar", 7415, 20)];

/// Starts a source on a loopback port (0 for any); returns its address and the running server.
///
/// # Errors
/// When the port is taken.
pub fn start(world: Arc<World>, source: &'static str, port: u16) -> io::Result<(SocketAddr, Server)> {
    let listener = TcpListener::bind(("127.0.0.1", port))?;
    let address = listener.local_addr()?;
    let app = move || {
        App::new().app_data(web::Data::from(world.clone())).app_data(web::Data::new(source)).default_service(web::route().to(answer))
    };
    let server = HttpServer::new(app).workers(1).disable_signals().shutdown_timeout(1).listen(listener)?.run();
    Ok((address, server))
}

async fn answer(world: web::Data<World>, source: web::Data<&'static str>, request: HttpRequest) -> HttpResponse {
    let source: &'static str = **source;
    let now = world.now();
    let query = web::Query::<HashMap<String, String>>::from_query(request.query_string()).map(web::Query::into_inner).unwrap_or_default();
    let key = request.headers().get("X-Lodestar-Key").and_then(|v| v.to_str().ok());
    let heard = Heard { path: request.path(), query, key, now };
    let allowed = SOURCES.iter().find(|s| s.0 == source).map_or(usize::MAX, |s| s.2);
    let said = match world.is_asked_too_much(source, now, allowed) {
        true => Said::no(429, "text/plain", "Too many calls. Please wait.\n"),
        false => match source {
            "harbour" => harbour::answer(&world, &heard),
            "lodestar" => lodestar::answer(&world, &heard),
            "packhorse" => packhorse::answer(&world, &heard),
            "almanack" => almanack::answer(&world, &heard),
            _ => cellar::answer(&world, &heard),
        },
    };
    for (fault, _) in world.faults.iter() {
        if let Fault::Slow { millis } = fault {
            actix_web::rt::time::sleep(Duration::from_millis(*millis)).await;
        }
    }
    let trouble = trouble(&world, source, &said.symbol);
    let status = if let Some(Trouble::Status(status, _)) = trouble { status } else { said.status };
    world.note(Call { at: now, source, target: request.uri().to_string(), status });
    let before = world.remember(source, &said);
    match trouble {
        None => {
            let mut response = HttpResponse::build(StatusCode::from_u16(said.status).unwrap_or(StatusCode::OK));
            response.content_type(said.media_type);
            if said.status == 429 {
                response.insert_header(("Retry-After", "20"));
            }
            response.body(said.body)
        }
        Some(trouble) => troubled(trouble, said, before, now).await,
    }
}

/// The trouble that strikes this answer, if one does.
fn trouble(world: &World, source: &str, symbol: &str) -> Option<Trouble> {
    let mut all = world.faults.iter().filter_map(|(fault, strikes)| match fault {
        Fault::Trouble { source: s, symbol: whose, times, what } if *s == source && (whose.is_empty() || *whose == symbol) => {
            strikes.strike(times.unwrap_or(u32::MAX)).then(|| what.clone())
        }
        _ => None,
    });
    all.next()
}

async fn troubled(trouble: Trouble, said: Said, before: Option<Vec<u8>>, now: Timestamp) -> HttpResponse {
    let mut response = HttpResponse::Ok();
    response.content_type(said.media_type);
    let half = said.body.len() / 2;
    match trouble {
        Trouble::Status(status, text) => {
            HttpResponse::build(StatusCode::from_u16(status).unwrap_or(StatusCode::OK)).content_type("text/plain").body(text)
        }
        Trouble::TooMany { seconds, as_date } => {
            let at = now.plus(seconds * SECOND).to_jiff();
            let date = jiff::fmt::rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&at).unwrap_or_default();
            let wait = if as_date { date } else { seconds.to_string() };
            HttpResponse::TooManyRequests().insert_header(("Retry-After", wait)).body("slowly, please")
        }
        Trouble::Redirect(to) => HttpResponse::Found().insert_header(("Location", to)).finish(),
        Trouble::WebPage => response.body("<!doctype html><title>Sign in</title><p>Please sign in to go on.</p>"),
        Trouble::WrongType(other) => HttpResponse::Ok().content_type(other).body(said.body),
        Trouble::Nothing => response.body(""),
        Trouble::Truncated => response.body(said.body[..half].to_vec()),
        Trouble::Garbled => {
            let mut body = said.body;
            body.insert(half, 0x01);
            response.body(body)
        }
        Trouble::Slow(millis) => {
            actix_web::rt::time::sleep(Duration::from_millis(millis)).await;
            response.body(said.body)
        }
        Trouble::Stale => response.body(before.unwrap_or(said.body)),
        Trouble::Reset => {
            let pieces = [Ok(web::Bytes::from(said.body[..half].to_vec())), Err(io::Error::from(io::ErrorKind::ConnectionReset))];
            response.streaming(futures_util::stream::iter(pieces))
        }
        Trouble::Flood(mib) => {
            let piece = web::Bytes::from(vec![b'x'; 1 << 20]);
            response.streaming(futures_util::stream::iter((0..mib).map(move |_| Ok::<_, io::Error>(piece.clone()))))
        }
    }
}
