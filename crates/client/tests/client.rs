//! The client against small servers that answer as a service, a proxy or a stranger would.

#![allow(clippy::unwrap_used, clippy::panic)]

use axum::Router;
use axum::body::Bytes;
use axum::extract::Request;
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use pennine_client::{Client, ClientError, Route};
use pennine_wire::SeatChange;
use serde_json::json;
use std::sync::{Arc, Mutex};
use tokio::io::AsyncReadExt;
use tokio::net::TcpListener;

/// What a server was asked: the method and the path, and the headers.
type Asked = Arc<Mutex<Vec<(String, HeaderMap)>>>;

/// A server that answers everything in the same way; its address, and what it is asked.
async fn server(answer: impl Fn() -> Response + Clone + Send + Sync + 'static) -> (String, Asked) {
    let asked = Asked::default();
    let seen = asked.clone();
    let app = Router::new().fallback(move |request: Request| {
        let what = format!("{} {}", request.method(), path(request.uri()));
        seen.lock().unwrap().push((what, request.headers().clone()));
        let answer = answer();
        async move { answer }
    });
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, app).await.unwrap() });
    (address, asked)
}

fn path(uri: &Uri) -> String {
    uri.path_and_query()
        .map_or_else(String::new, |path| path.to_string())
}

/// An address with no listener.
async fn closed_port() -> String {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.unwrap();
    format!("http://{}", listener.local_addr().unwrap())
}

fn empty_page() -> Response {
    axum::Json(json!({"items": []})).into_response()
}

fn seat() -> Response {
    axum::Json(json!({"settings_version": "0123456789abcdef", "name": "licence", "description": "", "count": 3,
        "taken": 0, "set_aside": 0, "holders": []}))
    .into_response()
}

fn client(url: &str) -> Client {
    Client::new(url, "secret", &Route::default()).unwrap()
}

fn requests(asked: &Asked) -> Vec<String> {
    let asked = asked.lock().unwrap();
    asked.iter().map(|(what, _)| what.clone()).collect()
}

#[tokio::test]
async fn an_unreachable_replica_is_skipped_for_a_while() {
    let (here, asked) = server(empty_page).await;
    let client = client(&format!("{}, {here}/", closed_port().await));
    client.pools().await.unwrap();
    client.pools().await.unwrap();
    assert_eq!(requests(&asked), ["GET /api/v1/pools", "GET /api/v1/pools"]);
}

#[tokio::test]
async fn without_any_replica_the_error_names_the_address_and_is_temporary() {
    let (first, second) = (closed_port().await, closed_port().await);
    let error = client(&format!("{first},{second}"))
        .pools()
        .await
        .unwrap_err();
    let ClientError::NoConnection { url, cause, .. } = &error else {
        panic!("{error:?}")
    };
    assert!([&first, &second].contains(&url), "{url}");
    assert!(cause.contains("refused"), "{cause}");
    assert!(error.passes());
}

/// The first replica reads the request and closes the connection: it may have done what was asked.
#[tokio::test]
async fn a_request_that_may_have_been_taken_is_not_sent_to_another_replica() {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.unwrap();
    let rude = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut connection, _)) = listener.accept().await {
            let mut some = [0; 1];
            let _ = connection.read(&mut some).await;
        }
    });
    let (other, asked) = server(seat).await;
    let client = client(&format!("{rude},{other}"));
    let change = SeatChange {
        count: Some(4),
        ..SeatChange::default()
    };
    let error = client.change_seat("licence", &change).await.unwrap_err();
    assert!(
        matches!(error, ClientError::NoConnection { .. }),
        "{error:?}"
    );
    assert_eq!(requests(&asked), Vec::<String>::new());
    // The next request goes to the other.
    client.change_seat("licence", &change).await.unwrap();
    assert_eq!(requests(&asked), ["PATCH /api/v1/seats/licence"]);
}

#[tokio::test]
async fn a_refusal_is_its_problem_and_only_some_refusals_pass() {
    let problem = |status: StatusCode| {
        move || {
            let body = json!({"type": "about:blank", "title": "No", "status": status.as_u16(), "detail": "not like this",
                "field": "name", "remedy": "another way"});
            let kind = [(header::CONTENT_TYPE, "application/problem+json")];
            (status, kind, body.to_string()).into_response()
        }
    };
    for (status, passes) in [
        (StatusCode::UNPROCESSABLE_ENTITY, false),
        (StatusCode::PRECONDITION_FAILED, false),
        (StatusCode::TOO_MANY_REQUESTS, true),
        (StatusCode::SERVICE_UNAVAILABLE, true),
    ] {
        let (url, _) = server(problem(status)).await;
        let error = client(&url).pools().await.unwrap_err();
        let problem = error.problem().unwrap_or_else(|| panic!("{status}"));
        assert_eq!(
            (problem.status, problem.field.as_deref()),
            (status.as_u16(), Some("name"))
        );
        assert_eq!(error.to_string(), "not like this");
        assert_eq!(error.passes(), passes, "{status}");
    }
}

#[tokio::test]
async fn a_proxys_error_counts_as_no_connection_and_a_foreign_page_is_an_unexpected_response() {
    for (status, passes) in [
        (StatusCode::BAD_GATEWAY, true),
        (StatusCode::GATEWAY_TIMEOUT, true),
        (StatusCode::INTERNAL_SERVER_ERROR, false),
        (StatusCode::NOT_FOUND, false),
        (StatusCode::OK, false),
    ] {
        let (url, _) = server(move || (status, "<html>nginx</html>").into_response()).await;
        let error = client(&url).pools().await.unwrap_err();
        assert!(error.problem().is_none(), "{status}: {error:?}");
        assert_eq!(error.passes(), passes, "{status}: {error:?}");
    }
}

#[tokio::test]
async fn a_redirect_is_not_followed() {
    let (elsewhere, asked) = server(empty_page).await;
    let to = format!("{elsewhere}/api/v1/pools");
    let (url, _) = server(move || {
        (
            StatusCode::TEMPORARY_REDIRECT,
            [(header::LOCATION, to.clone())],
        )
            .into_response()
    })
    .await;
    let error = client(&url).pools().await.unwrap_err();
    assert!(matches!(error, ClientError::Strange { .. }), "{error:?}");
    assert_eq!(requests(&asked), Vec::<String>::new());
}

#[tokio::test]
async fn a_name_is_one_segment_of_the_path_whatever_is_in_it() {
    let (url, asked) = server(seat).await;
    let change = SeatChange::default();
    for name in ["a/b", "c d", "100%", "é", "x?y#z"] {
        client(&url).change_seat(name, &change).await.unwrap();
    }
    assert_eq!(
        requests(&asked),
        ["a%2Fb", "c%20d", "100%25", "%C3%A9", "x%3Fy%23z"]
            .map(|segment| format!("PATCH /api/v1/seats/{segment}"))
    );
}

#[tokio::test]
async fn the_token_goes_with_each_request_and_the_version_with_changes() {
    let (url, asked) = server(seat).await;
    let client = client(&url);
    let change = SeatChange::default();
    client.change_seat("licence", &change).await.unwrap();
    let at_version = client.if_version(Some("0123456789abcdef"));
    at_version.change_seat("licence", &change).await.unwrap();
    let unconditional = at_version.if_version(None);
    unconditional.change_seat("licence", &change).await.unwrap();
    let asked = asked.lock().unwrap();
    let sent = |name: header::HeaderName| -> Vec<Option<&str>> {
        let values = asked.iter().map(|(_, headers)| headers.get(&name));
        values
            .map(|value| value.map(|value| value.to_str().unwrap()))
            .collect()
    };
    assert_eq!(sent(header::AUTHORIZATION), [Some("Bearer secret"); 3]);
    assert_eq!(
        sent(header::IF_MATCH),
        [None, Some("\"0123456789abcdef\""), None]
    );
}

#[tokio::test]
async fn a_log_response_without_an_offset_is_not_a_pennine_service() {
    let (url, _) = server(|| Bytes::from_static(b"a line\n").into_response()).await;
    let error = client(&url)
        .log("j-1", None, 0, std::time::Duration::ZERO.into())
        .await
        .unwrap_err();
    assert!(matches!(error, ClientError::Strange { .. }), "{error:?}");
}

#[test]
fn an_address_without_a_scheme_and_a_broken_authority_are_refused() {
    let error = Client::new("pennine.test:7117", "", &Route::default()).err();
    assert!(matches!(error, Some(ClientError::Setup(text)) if text.contains("http://")));
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("ca.pem");
    let nonsense = "-----BEGIN CERTIFICATE-----\nnonsense\n-----END CERTIFICATE-----\n";
    std::fs::write(&file, nonsense).unwrap();
    let route = Route::with_ca(Some(&file)).unwrap();
    assert!(Client::new("https://pennine.test", "", &route).is_err());
    let missing = Route::with_ca(Some(std::path::Path::new("/nowhere/ca.pem"))).err();
    assert!(matches!(missing, Some(ClientError::Setup(text)) if text.contains("/nowhere/ca.pem")));
}
