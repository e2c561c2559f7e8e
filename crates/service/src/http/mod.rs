//! HTTP: one file per noun, and the layers that every request passes.

pub mod accept;
pub mod answer;
mod auth;
pub mod body;
mod idempotency;
mod installation;
mod jobs;
mod measures;
mod people;
mod pools;
pub mod runners;
pub mod tls;
mod upload;

use crate::app::App;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::{HeaderValue, StatusCode, header};
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
use utoipa::openapi::{ContentBuilder, Ref, ResponseBuilder};
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

/// The routes of people and access: signing in, accounts, places, roles, tokens, variables, the audit log.
fn of_people() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(
            people::session::who,
            people::session::sign_in,
            people::session::sign_out
        ))
        .routes(routes!(people::session::options))
        .routes(routes!(people::session::link_owner))
        .routes(routes!(people::session::use_link))
        .routes(routes!(people::account::show))
        .routes(routes!(people::account::change_password))
        .routes(routes!(people::account::begin_second_factor))
        .routes(routes!(people::account::confirm_second_factor))
        .routes(routes!(people::account::remove_second_factor))
        .routes(routes!(people::account::end_session))
        .routes(routes!(people::person::list, people::person::add))
        .routes(routes!(people::person::show, people::person::change))
        .routes(routes!(people::person::link))
        .routes(routes!(people::person::grant))
        .routes(routes!(people::person::revoke))
        .routes(routes!(people::person::permission))
        .routes(routes!(people::group::list, people::group::grant))
        .routes(routes!(people::group::revoke))
        .routes(routes!(people::audit::list))
        .routes(routes!(people::variable::list, people::variable::set))
        .routes(routes!(people::variable::remove))
        .routes(routes!(people::secret::list, people::secret::set))
        .routes(routes!(people::secret::remove))
        .routes(routes!(people::place::teams, people::place::add_team))
        .routes(routes!(people::place::projects, people::place::add_project))
        .routes(routes!(people::place::show_project))
        .routes(routes!(people::place::change, people::place::remove))
        .routes(routes!(people::token::list, people::token::add))
        .routes(routes!(people::token::change))
        .routes(routes!(people::token::rotate))
        .routes(routes!(people::token::revoke))
}

/// All of `/api/v1`, with the time that a request may take.
fn api(limit: TimeoutLayer) -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Description::openapi())
        .merge(of_people())
        .routes(routes!(installation::status::status))
        .routes(routes!(installation::status::skyline))
        .routes(routes!(jobs::queue::queue))
        .routes(routes!(pools::pool::list, pools::pool::add))
        .routes(routes!(pools::pool::show, pools::pool::change))
        .routes(routes!(pools::pool::remove))
        .routes(routes!(pools::pool::approve))
        .routes(routes!(pools::pool::withdraw_approval))
        .routes(routes!(pools::capacity::relief))
        .routes(routes!(pools::capacity::decisions))
        .routes(routes!(pools::machine::list))
        .routes(routes!(pools::machine::start))
        .routes(routes!(pools::machine::show))
        .routes(routes!(pools::machine::stop))
        .routes(routes!(pools::machine::console))
        .routes(routes!(pools::supplier::list, pools::supplier::add))
        .routes(routes!(
            pools::supplier::show,
            pools::supplier::change,
            pools::supplier::remove
        ))
        .routes(routes!(pools::seat::list, pools::seat::add))
        .routes(routes!(pools::seat::change))
        .routes(routes!(pools::seat::take_back))
        .routes(routes!(jobs::requirement::try_out))
        .routes(routes!(
            installation::yard_file::show,
            installation::yard_file::note,
            installation::yard_file::forget
        ))
        .routes(routes!(measures::target::list, measures::target::add))
        .routes(routes!(measures::target::change, measures::target::remove))
        .routes(routes!(measures::alert::list))
        .routes(routes!(measures::alert::acknowledge))
        .routes(routes!(
            measures::alert::thresholds,
            measures::alert::change_thresholds
        ))
        .routes(routes!(measures::listener::list, measures::listener::add))
        .routes(routes!(
            measures::listener::change,
            measures::listener::remove
        ))
        .routes(routes!(measures::listener::renew))
        .routes(routes!(measures::listener::try_out))
        .routes(routes!(measures::trends::show))
        .routes(routes!(measures::trends::week))
        .routes(routes!(measures::trends::waits))
        .routes(routes!(measures::history::export))
        .routes(routes!(jobs::bulk::act, jobs::bulk::list))
        .routes(routes!(jobs::bulk::show))
        .routes(routes!(jobs::bulk::stop))
        .routes(routes!(runners::ticket::add))
        .routes(routes!(runners::ticket::list))
        .routes(routes!(runners::ticket::revoke))
        .routes(routes!(runners::runner::list))
        .routes(routes!(runners::runner::show, runners::runner::change))
        .routes(routes!(runners::runner::retire))
        .routes(routes!(runners::runner::set_desired_state))
        .routes(routes!(runners::doctor::check))
        .routes(routes!(runners::takeover::next))
        .routes(routes!(runners::takeover::take_back))
        .routes(routes!(runners::timeline::show))
        .routes(routes!(
            runners::maintenance::list,
            runners::maintenance::add
        ))
        .routes(routes!(runners::maintenance::end))
        .routes(routes!(jobs::job::list, jobs::submission::submit))
        .routes(routes!(jobs::job::show))
        .routes(routes!(jobs::job::compare))
        .routes(routes!(jobs::job::size))
        .routes(routes!(jobs::job::cancel))
        .routes(routes!(jobs::run::release))
        .routes(routes!(jobs::run::list, jobs::run::submit))
        .routes(routes!(jobs::run::show))
        .routes(routes!(jobs::run::cancel))
        .routes(routes!(jobs::run::retry))
        .routes(routes!(jobs::why::why))
        .routes(routes!(jobs::logs::bytes))
        .routes(routes!(jobs::logs::lines))
        .routes(routes!(installation::events::stream))
        .layer(limit)
        // Bounded by its progress, and by the limit of the supplier's machines.
        .routes(routes!(measures::history::import))
        .routes(routes!(jobs::source::upload))
        .routes(routes!(pools::supplier::check))
}

/// The OpenAPI 3.1 description of `/api/v1`.
pub fn openapi() -> utoipa::openapi::OpenApi {
    let (_, described) = OpenApiRouter::new()
        .nest(
            "/api/v1",
            api(TimeoutLayer::with_status_code(
                StatusCode::REQUEST_TIMEOUT,
                Duration::ZERO,
            )),
        )
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
    describe_refusals(&mut described);
    described
}

/// Adds what any operation may answer: a problem where the request is refused, and one where the service cannot answer it.
fn describe_refusals(described: &mut utoipa::openapi::OpenApi) {
    let problem = |description| {
        let schema = Ref::from_schema_name("Problem");
        let content = ContentBuilder::new().schema(Some(schema)).build();
        ResponseBuilder::new()
            .description(description)
            .content("application/problem+json", content)
            .build()
    };
    for path in described.paths.paths.values_mut() {
        let operations = [
            &mut path.get,
            &mut path.put,
            &mut path.post,
            &mut path.patch,
            &mut path.delete,
        ];
        for operation in operations.into_iter().flatten() {
            let responses = &mut operation.responses.responses;
            for (status, description) in [
                ("4XX", "The request is refused"),
                (
                    "5XX",
                    "The service cannot answer it; trying again later may help",
                ),
            ] {
                let known = responses.entry(status.to_owned());
                known.or_insert_with(|| problem(description).into());
            }
        }
    }
}

/// Everything that the service answers.
pub fn router(app: &App) -> Router {
    let described = openapi();
    let limit = Duration::from_secs(app.config.limits.request_seconds);
    let limit = TimeoutLayer::with_status_code(StatusCode::REQUEST_TIMEOUT, limit);
    let (api, _) = api(limit).split_for_parts();
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
        .layer(middleware::from_fn(body::refuse_nul))
        .layer(DefaultBodyLimit::max(app.config.limits.body_bytes));
    let routes = Router::new()
        .nest("/api/v1", api)
        .nest("/runner/v1", runners::protocol::routes(limit))
        .merge(installation::health::routes())
        .merge(installation::identity::routes())
        .merge(people::provider::routes())
        .merge(runners::programs::routes())
        .merge(
            Router::new()
                .route("/metrics", axum::routing::get(measures::metrics::metrics))
                .layer(middleware::from_fn_with_state(
                    app.clone(),
                    auth::authenticate,
                )),
        )
        .fallback(installation::console::serve)
        .method_not_allowed_fallback(answer::wrong_method)
        .with_state(app.clone());
    let routes = match app.config.base_path() {
        base if base.is_empty() => routes,
        // A nest does not take its own path with a slash at the end.
        base => Router::new()
            .route(
                &format!("{base}/"),
                axum::routing::get(installation::console::serve).with_state(app.clone()),
            )
            .nest(&base, routes)
            .fallback(answer::no_such_path),
    };
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
        .layer(header(header::CACHE_CONTROL, "no-store"))
        .layer(header(header::REFERRER_POLICY, "same-origin"))
        .layer(header(header::CONTENT_SECURITY_POLICY, CONTENT_POLICY))
        .option_layer(
            (app.config.tls.is_on())
                .then(|| header(header::STRICT_TRANSPORT_SECURITY, "max-age=31536000")),
        )
        .map_response(answer::finish_problem)
        .layer(PropagateRequestIdLayer::x_request_id())
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
