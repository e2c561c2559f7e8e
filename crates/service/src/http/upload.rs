//! Bodies of many bytes: bounded by how fast they come, and by what all of them together may hold in memory.

use super::answer::Failure;
use crate::app::App;
use axum::body::{Body, Bytes};
use axum::extract::Request;
use axum::http::{StatusCode, header};
use bytes::BytesMut;
use futures::{Stream, StreamExt};
use std::time::Duration;
use tokio::sync::OwnedSemaphorePermit;
use tokio::time::Instant;

/// How long a client may fall behind the pace below.
const GRACE: Duration = Duration::from_secs(20);
/// The slowest pace at which a body may come, in bytes per second: a modem's.
const PACE: u64 = 4 * 1024;

/// A body that was read whole.
pub struct Upload {
    pub bytes: Bytes,
    _part: OwnedSemaphorePermit,
}

/// Reads a body of at most this many bytes.
///
/// # Errors
/// 413 where it is larger, 408 where it comes too slowly, 503 where other uploads hold the budget for too long.
pub async fn read(app: &App, request: Request, most: usize) -> Result<Upload, Failure> {
    let declared = request.headers().get(header::CONTENT_LENGTH);
    let declared = declared.and_then(|length| length.to_str().ok()?.parse::<usize>().ok());
    if declared.is_some_and(|length| length > most) {
        return Err(too_large(most as u64));
    }
    let part = app.uploads.take(declared.unwrap_or(most)).await?;
    let bytes = read_paced(request.into_body(), most).await?;
    Ok(Upload { bytes, _part: part })
}

/// Returns the pieces of a body of at most this many bytes, as they come.
///
/// Each is an error where the body is larger (413), comes too slowly (408) or ends early (400), and is then the last.
pub fn pieces(body: Body, most: u64) -> impl Stream<Item = Result<Bytes, Failure>> {
    let begun = Instant::now();
    let start = (body.into_data_stream(), 0_u64);
    futures::stream::try_unfold(start, move |(mut frames, read)| async move {
        let paid = Duration::from_secs(read / PACE);
        let Ok(frame) = tokio::time::timeout_at(begun + GRACE + paid, frames.next()).await else {
            return Err(too_slow(read, begun));
        };
        match frame {
            None => Ok(None),
            Some(Ok(frame)) => match read + frame.len() as u64 {
                now if now > most => Err(too_large(most)),
                now => Ok(Some((frame, (frames, now)))),
            },
            Some(Err(error)) => Err(ended_early(&error)),
        }
    })
}

fn too_slow(read: u64, begun: Instant) -> Failure {
    Failure::unreadable(
        StatusCode::REQUEST_TIMEOUT,
        format!(
            "the body came too slowly: {read} bytes in {} s",
            begun.elapsed().as_secs()
        ),
    )
}

fn ended_early(error: &axum::Error) -> Failure {
    Failure::unreadable(
        StatusCode::BAD_REQUEST,
        format!("the body ended early: {error}"),
    )
}

fn too_large(most: u64) -> Failure {
    Failure::unreadable(
        StatusCode::PAYLOAD_TOO_LARGE,
        format!("the body is larger than {most} bytes"),
    )
}

async fn read_paced(body: Body, most: usize) -> Result<Bytes, Failure> {
    let mut bytes = BytesMut::new();
    let begun = Instant::now();
    let mut frames = body.into_data_stream();
    loop {
        let paid = Duration::from_secs(bytes.len() as u64 / PACE);
        let Ok(frame) = tokio::time::timeout_at(begun + GRACE + paid, frames.next()).await else {
            return Err(too_slow(bytes.len() as u64, begun));
        };
        match frame {
            None => return Ok(bytes.freeze()),
            Some(Ok(frame)) if bytes.len() + frame.len() > most => {
                return Err(too_large(most as u64));
            }
            Some(Ok(frame)) => bytes.extend_from_slice(&frame),
            Some(Err(error)) => return Err(ended_early(&error)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures::stream;
    use std::convert::Infallible;

    /// A body that comes in pieces of this size, one each second.
    fn body(piece: usize, pieces: usize) -> Body {
        let frames = stream::iter(0..pieces).then(move |_| async move {
            tokio::time::sleep(Duration::from_secs(1)).await;
            Ok::<_, Infallible>(vec![b'x'; piece])
        });
        Body::from_stream(frames)
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_may_take_as_long_as_it_comes_at_the_pace() {
        let pace = usize::try_from(PACE).unwrap();
        let whole = read_paced(body(pace, 600), usize::MAX).await.unwrap();
        assert_eq!(whole.len(), 600 * pace);
        let begun = Instant::now();
        let refused = read_paced(body(pace / 2, 600), usize::MAX).await;
        assert_eq!(refused.unwrap_err().status(), StatusCode::REQUEST_TIMEOUT);
        assert_eq!(begun.elapsed().as_secs(), 39, "twice the grace");
        let refused = read_paced(
            Body::from_stream(stream::pending::<Result<Bytes, Infallible>>()),
            1,
        );
        assert_eq!(
            refused.await.unwrap_err().status(),
            StatusCode::REQUEST_TIMEOUT
        );
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_larger_than_it_may_be_is_refused_at_that_byte() {
        let begun = Instant::now();
        let refused = read_paced(body(1000, 600), 10_000).await;
        assert_eq!(refused.unwrap_err().status(), StatusCode::PAYLOAD_TOO_LARGE);
        assert_eq!(begun.elapsed().as_secs(), 11);
    }
}
