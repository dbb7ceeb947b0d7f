//! What happens, as server-sent events.

use super::wire;
use actix_web::{
    HttpResponse, get,
    web::{Bytes, Data},
};
use futures_util::{Stream, StreamExt, stream};
use mizuno_desk::Desk;
use std::{convert::Infallible, time::Duration};
use tokio_stream::wrappers::BroadcastStream;

/// A comment this often keeps proxies from closing a quiet stream.
const QUIET: Duration = Duration::from_secs(15);

/// Runs and fetches as they happen: `data:` is an `Event` as JSON. A comment line every quarter of a minute keeps the stream open.
#[utoipa::path(responses((status = 200, description = "The stream", content_type = "text/event-stream", body = String)))]
#[get("/api/v1/events")]
pub(super) async fn stream_events(desk: Data<Desk>) -> HttpResponse {
    let told = BroadcastStream::new(desk.events.listen()).filter_map(async |event| {
        // A listener that fell behind has missed some; the next one brings it up to date.
        let json = serde_json::to_string(&wire::event(&event.ok()?)).ok()?;
        Some(Bytes::from(format!("data: {json}\n\n")))
    });
    let hello = stream::once(async { Bytes::from_static(b"retry: 2000\n\n") });
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .insert_header(("Content-Encoding", "identity"))
        .streaming(hello.chain(stream::select(told, heartbeat())).map(Ok::<_, Infallible>).boxed_local())
}

fn heartbeat() -> impl Stream<Item = Bytes> {
    stream::unfold((), async |()| {
        tokio::time::sleep(QUIET).await;
        Some((Bytes::from_static(b": still here\n\n"), ()))
    })
}
