//! The body of an answer: a short one whole, a long one a piece at a time.

use super::seats::{Place, Seat};
use actix_web::web::Bytes;
use mizuno_desk::DeskError;
use mizuno_research::{
    answer::{Answer, batch::Batch},
    encode::{self, Style},
};
use std::{collections::VecDeque, time::Duration};
use tokio::sync::mpsc::{self, error::TrySendError};

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
    pieces: mpsc::Sender<Result<Bytes, std::io::Error>>,
    (seat, mut turn): (Seat, Option<Place>),
) {
    let work = async {
        let mut encoder = encode::encoder(answer.headings.clone(), style).map_err(|e| e.to_string())?;
        let mut out = Vec::with_capacity(PIECE * 2);
        encoder.begin(&mut out).map_err(|e| e.to_string())?;
        loop {
            let batch = match read.pop_front() {
                Some(batch) => batch,
                None => match answer.next().await.map_err(|e| e.to_string())? {
                    Some(batch) => batch,
                    None => break,
                },
            };
            encoder.rows(&batch, &mut out).map_err(|e| e.to_string())?;
            drop(batch);
            if out.len() >= PIECE {
                let piece = std::mem::replace(&mut out, Vec::with_capacity(PIECE * 2));
                if let Err(TrySendError::Full(piece)) = pieces.try_send(Ok(piece.into())) {
                    turn = None;
                    pieces.send_timeout(piece, PATIENCE).await.map_err(|_| "the reader went away".to_owned())?;
                    turn = seat.turn_again().await;
                } else if pieces.is_closed() {
                    return Err("the reader went away".to_owned());
                }
            }
        }
        encoder.finish(&mut out).map_err(|e| e.to_string())?;
        turn = None;
        if !out.is_empty() {
            pieces.send_timeout(Ok(out.into()), PATIENCE).await.map_err(|_| "the reader went away".to_owned())?;
        }
        Ok::<(), String>(())
    };
    if let Err(error) = work.await {
        // Breaking the connection tells the reader that the file is not whole.
        tracing::warn!(error, "an answer was not finished");
        let _ = pieces.try_send(Err(std::io::Error::other(error)));
    }
    drop(turn);
}
