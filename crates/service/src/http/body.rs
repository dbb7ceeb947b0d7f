//! The body of an answer: a short one whole, a long one a piece at a time.

use super::seats::{Place, Seat};
use actix_web::web::Bytes;
use futures_util::{Stream, StreamExt, stream};
use mizuno_desk::DeskError;
use mizuno_research::{
    answer::{Answer, batch::Batch},
    encode::{self, Style},
};
use std::{collections::VecDeque, time::Duration};
use tokio::{
    sync::mpsc::{self, error::TrySendError},
    task::JoinHandle,
};
use tokio_stream::wrappers::ReceiverStream;

/// A reader that takes nothing for this long is given up, so that it does not keep its pieces in memory for ever.
const PATIENCE: Duration = Duration::from_secs(60);

/// A file of one batch of rows, or of none.
pub(super) fn whole(rows: Option<&Batch>, answer: &Answer, style: Style) -> Result<Vec<u8>, DeskError> {
    let mut encoder = encode::encoder(answer.headings.clone(), style)?;
    let mut out = vec![];
    encoder.begin(&mut out)?;
    rows.map_or(Ok(()), |rows| encoder.rows(rows, &mut out))?;
    encoder.finish(&mut out)?;
    Ok(out)
}

/// Pieces are sent when they have about so many bytes.
const PIECE: usize = 64 << 10;

/// Writes the file a batch at a time; memory holds a batch or two, however long the answer. While the reader is slow, the turn to
/// work is somebody else's.
pub(super) async fn stream(
    mut read: VecDeque<Batch>,
    mut answer: Answer,
    style: Style,
    pieces: mpsc::Sender<Result<Bytes, DeskError>>,
    (seat, mut turn): (Seat, Option<Place>),
) {
    let gone = || DeskError::Over("the reader went away".to_owned());
    let work = async {
        let mut encoder = encode::encoder(answer.headings.clone(), style)?;
        let mut out = Vec::with_capacity(PIECE * 2);
        encoder.begin(&mut out)?;
        loop {
            let batch = match read.pop_front() {
                Some(batch) => batch,
                None => match answer.next().await? {
                    Some(batch) => batch,
                    None => break,
                },
            };
            encoder.rows(&batch, &mut out)?;
            drop(batch);
            if out.len() >= PIECE {
                let piece = std::mem::replace(&mut out, Vec::with_capacity(PIECE * 2));
                if let Err(TrySendError::Full(piece)) = pieces.try_send(Ok(piece.into())) {
                    turn = None;
                    pieces.send_timeout(piece, PATIENCE).await.map_err(|_| gone())?;
                    turn = seat.turn_again().await;
                } else if pieces.is_closed() {
                    return Err(gone());
                }
            }
        }
        encoder.finish(&mut out)?;
        turn = None;
        if !out.is_empty() {
            pieces.send_timeout(Ok(out.into()), PATIENCE).await.map_err(|_| gone())?;
        }
        Ok(())
    };
    if let Err(error) = work.await {
        tracing::warn!(%error, "an answer was not finished");
        let _ = pieces.try_send(Err(error));
    }
    drop(turn);
}

/// The body that `pieces` make, which `work` sends. It is there with its first piece: what goes wrong before that is an error, and is told with its
/// reason. What goes wrong later breaks the connection, which tells the reader that the file is not whole.
pub(super) async fn begun(
    pieces: mpsc::Receiver<Result<Bytes, DeskError>>,
    work: JoinHandle<()>,
) -> Result<impl Stream<Item = Result<Bytes, DeskError>>, DeskError> {
    // A thread that breaks down ends the pieces as the last one would.
    let end = stream::once(work).filter_map(async |ended| ended.err().map(|e| Err(DeskError::fault("writing an answer", e))));
    let mut body = Box::pin(ReceiverStream::new(pieces).chain(end));
    match body.next().await.transpose()? {
        Some(first) => Ok(stream::once(async { Ok(first) }).chain(body)),
        None => Err(DeskError::fault("writing an answer", std::io::Error::other("it has not a single byte"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a reader gets where `work` sends the pieces.
    async fn read(
        work: impl Future<Output = ()> + Send + 'static,
        pieces: mpsc::Receiver<Result<Bytes, DeskError>>,
    ) -> Vec<Result<Bytes, String>> {
        match begun(pieces, tokio::spawn(work)).await {
            Ok(body) => body.map(|piece| piece.map_err(|e| e.to_string())).collect().await,
            Err(error) => vec![Err(format!("refused: {error}"))],
        }
    }

    #[tokio::test]
    async fn a_body_says_how_it_ended() {
        let piece = |text: &'static str| Ok(Bytes::from_static(text.as_bytes()));
        let (send, pieces) = mpsc::channel(2);
        let whole = async move {
            for text in ["one", "two", "three"] {
                send.send(piece(text)).await.unwrap();
            }
        };
        assert_eq!(
            read(whole, pieces).await,
            [piece("one"), piece("two"), piece("three")].map(|p: Result<Bytes, DeskError>| Ok(p.unwrap()))
        );
        let (send, pieces) = mpsc::channel(2);
        let refused = async move { send.send(Err(DeskError::Invalid("too many cells".to_owned()))).await.unwrap() };
        assert_eq!(read(refused, pieces).await, [Err("refused: too many cells".to_owned())]);
        let (send, pieces) = mpsc::channel(2);
        let broken = async move {
            send.send(piece("one")).await.unwrap();
            panic!("as the test wants it");
        };
        let told = read(broken, pieces).await;
        assert!(told.len() == 2 && told[0].is_ok() && told[1].as_ref().unwrap_err().contains("writing an answer"), "{told:?}");
        let (send, pieces) = mpsc::channel(2);
        let nothing = async move {
            drop(send);
            panic!("as the test wants it");
        };
        assert!(read(nothing, pieces).await[0].as_ref().unwrap_err().starts_with("refused: "));
    }
}
