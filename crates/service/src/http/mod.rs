//! HTTP: one file per noun, and the layers that every request passes.

pub mod accept;
mod alerts;
pub mod answer;
mod auth;
mod bench;
mod body;
mod bulk;
mod console;
mod doctor;
mod enrol;
mod events;
mod health;
mod history;
mod idempotency;
pub mod jobs;
mod listeners;
mod logs;
mod losses;
mod machines;
mod maintenance;
mod mends;
mod metrics;
mod places;
mod pools;
pub mod programs;
pub mod queue;
mod reports;
mod runner_here;
mod runner_protocol;
mod runner_time;
mod runners;
mod seats;
mod session;
mod status;
mod submit;
mod suppliers;
mod supply;
mod targets;
mod tickets;
mod trends;
mod trial;
mod why;
pub mod yard;
mod yard_file;

use crate::app::App;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::{HeaderValue, header};
use axum::middleware;
use std::time::Duration;
use tower::ServiceBuilder;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{NotForContentType, Predicate, SizeAbove};
use tower_http::request_id::{MakeRequestUuid, PropagateRequestIdLayer, SetRequestIdLayer};
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;
use utoipa::OpenApi;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Pennine",
        description = "Pools of build machines: jobs, runners, why jobs wait, and what it took. Every error is an RFC 9457 problem.",
        license(name = "Apache-2.0")
    ),
    security(("token" = [])),
    components(schemas(pennine_wire::Problem, pennine_wire::Change, pennine_wire::By))
)]
struct Description;

fn api() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Description::openapi())
        .routes(routes!(session::who, session::sign_in, session::sign_out))
        .routes(routes!(status::status))
        .routes(routes!(status::skyline))
        .routes(routes!(queue::queue))
        .routes(routes!(places::teams, places::add_team))
        .routes(routes!(places::projects, places::add_project))
        .routes(routes!(pools::list, pools::add))
        .routes(routes!(pools::show, pools::change))
        .routes(routes!(pools::remove))
        .routes(routes!(supply::relief))
        .routes(routes!(supply::decisions))
        .routes(routes!(machines::list))
        .routes(routes!(machines::start))
        .routes(routes!(machines::show))
        .routes(routes!(machines::stop))
        .routes(routes!(machines::console))
        .routes(routes!(suppliers::list, suppliers::add))
        .routes(routes!(
            suppliers::show,
            suppliers::change,
            suppliers::remove
        ))
        .routes(routes!(suppliers::check))
        .routes(routes!(places::change, places::remove))
        .routes(routes!(seats::list, seats::add))
        .routes(routes!(seats::change))
        .routes(routes!(seats::take_back))
        .routes(routes!(trial::try_out))
        .routes(routes!(yard_file::show, yard_file::note, yard_file::forget))
        .routes(routes!(targets::list, targets::add))
        .routes(routes!(targets::change, targets::remove))
        .routes(routes!(alerts::list))
        .routes(routes!(alerts::see))
        .routes(routes!(alerts::thresholds, alerts::change_thresholds))
        .routes(routes!(listeners::list, listeners::add))
        .routes(routes!(listeners::change, listeners::remove))
        .routes(routes!(listeners::renew))
        .routes(routes!(listeners::try_out))
        .routes(routes!(trends::show))
        .routes(routes!(trends::week))
        .routes(routes!(trends::waits))
        .routes(routes!(history::export))
        .merge(
            OpenApiRouter::new()
                .routes(routes!(history::import))
                .layer(DefaultBodyLimit::max(history::MOST_BYTES)),
        )
        .routes(routes!(bulk::act))
        .routes(routes!(tickets::add))
        .routes(routes!(tickets::list))
        .routes(routes!(tickets::revoke))
        .routes(routes!(runners::list))
        .routes(routes!(runners::show, runners::change))
        .routes(routes!(runners::retire))
        .routes(routes!(runners::wish))
        .routes(routes!(doctor::check))
        .routes(routes!(bench::next))
        .routes(routes!(bench::take_back))
        .routes(routes!(runner_time::show))
        .routes(routes!(maintenance::list, maintenance::add))
        .routes(routes!(maintenance::end))
        .routes(routes!(jobs::list, submit::submit))
        .routes(routes!(jobs::show))
        .routes(routes!(jobs::cancel))
        .routes(routes!(why::why))
        .routes(routes!(logs::bytes))
        .routes(routes!(logs::lines))
        .routes(routes!(events::stream))
}

/// The OpenAPI 3.1 description of `/api/v1`.
pub fn openapi() -> utoipa::openapi::OpenApi {
    let (_, described) = OpenApiRouter::new()
        .nest("/api/v1", api())
        .split_for_parts();
    // Nesting keeps the outer description's head; what is about the whole comes from ours.
    let base = Description::openapi();
    let mut described = described;
    described.info = base.info.clone();
    described.security = base.security.clone();
    let mut described = described.merge_from(base);
    let bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
    if let Some(components) = described.components.as_mut() {
        components.add_security_scheme("token", SecurityScheme::Http(bearer));
    }
    described
}

/// Everything that the service answers.
pub fn router(app: &App) -> Router {
    let described = openapi();
    let (api, _) = api().split_for_parts();
    let api = api
        .route(
            "/openapi.json",
            axum::routing::get(move || std::future::ready(axum::Json(described.clone()))),
        )
        .layer(middleware::from_fn_with_state(
            app.clone(),
            idempotency::once,
        ))
        .layer(middleware::from_fn_with_state(
            app.clone(),
            auth::authenticate,
        ))
        .fallback(answer::no_such_path)
        .layer(DefaultBodyLimit::max(app.config.limits.body_bytes));
    let routes = Router::new()
        .nest("/api/v1", api)
        .nest("/runner/v1", runner_protocol::routes())
        .merge(health::routes())
        .merge(programs::routes())
        .merge(
            Router::new()
                .route("/metrics", axum::routing::get(metrics::metrics))
                .layer(middleware::from_fn_with_state(
                    app.clone(),
                    auth::authenticate,
                )),
        )
        .fallback(console::serve)
        .method_not_allowed_fallback(answer::wrong_method)
        .with_state(app.clone());
    let routes = match app.config.base_path() {
        base if base.is_empty() => routes,
        // A nest does not take its own path with a slash at the end.
        base => Router::new()
            .route(
                &format!("{base}/"),
                axum::routing::get(console::serve).with_state(app.clone()),
            )
            .nest(&base, routes)
            .fallback(answer::no_such_path),
    };
    let limit = Duration::from_secs(app.config.limits.request_seconds);
    // Streams must not wait in a compressor, and what is small is not worth it.
    let compress = CompressionLayer::new().gzip(true).compress_when(
        SizeAbove::new(1024)
            .and(NotForContentType::new("text/event-stream"))
            .and(NotForContentType::new("application/octet-stream")),
    );
    let header =
        |name, value| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    // One layer made of all, none of which boxes its future: ten thousand polls are parked in it at once.
    let layers = ServiceBuilder::new()
        .layer(SetRequestIdLayer::x_request_id(MakeRequestUuid))
        .layer(TraceLayer::new_for_http().make_span_with(span))
        // What keeps browsers from doing what a console never needs.
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::X_FRAME_OPTIONS, "DENY"))
        .layer(header(header::REFERRER_POLICY, "same-origin"))
        .layer(header(header::CONTENT_SECURITY_POLICY, CONTENT_POLICY))
        .map_response(answer::finish_problem)
        .layer(PropagateRequestIdLayer::x_request_id())
        .layer(TimeoutLayer::with_status_code(
            axum::http::StatusCode::REQUEST_TIMEOUT,
            limit,
        ))
        .layer(CatchPanicLayer::custom(answer::panicked))
        .layer(compress);
    routes.layer(layers)
}

/// What a page of the console may load, and from where.
const CONTENT_POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'self'; form-action 'self'";

fn span(request: &Request) -> tracing::Span {
    let id = request
        .headers()
        .get("x-request-id")
        .and_then(|id| id.to_str().ok())
        .unwrap_or_default();
    tracing::debug_span!("request", method = %request.method(), path = request.uri().path(), id)
}
