//! Identity tokens of an attempt, made for the runner that runs it.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::runners::reports::{actor, held, over};
use pennine_core::id::{AttemptId, ShortName};
use pennine_core::identity::{
    AttemptClaims, AudienceRefusal, TOKEN_LIFETIME, may_address, subject,
};
use pennine_core::secret::SecretText;
use pennine_core::time::Moment;
use pennine_store::audit;
use pennine_store::credential::CredentialHolder;
use pennine_store::place;
use pennine_store::secret::{self, Recipient};
use pennine_wire::runner_protocol::{IdentityRequest, IdentityToken};
use serde::Serialize;
use serde_json::json;
use std::net::IpAddr;
use uuid::Uuid;

/// The claims of a token: the registered ones (RFC 7519, section 4.1), and what is said of the attempt.
#[derive(Serialize)]
struct Claims<'a> {
    iss: &'a str,
    aud: &'a str,
    iat: u64,
    nbf: u64,
    exp: u64,
    jti: Uuid,
    #[serde(flatten)]
    attempt: AttemptClaims,
}

/// Seconds since 1970.
fn seconds(at: Moment) -> u64 {
    at.since(Moment::default()).as_secs()
}

fn claims_of(recipient: &Recipient) -> AttemptClaims {
    let project = &recipient.project;
    AttemptClaims {
        sub: subject(project, recipient.trust.0),
        project: project.clone(),
        team: project.rsplit_once('/').map(|(team, _)| team.to_owned()),
        pool: recipient.pool.clone(),
        runner: recipient.runner.clone(),
        job: ShortName::Job.name(recipient.job_number),
        run: ShortName::Run.name(recipient.run_number),
        branch: recipient.branch.clone(),
        revision: recipient.revision.clone(),
        attempt: recipient.attempt_number.max(0).unsigned_abs(),
        trusted: recipient.trust.0.is_trusted(),
        isolation: recipient.policy.0.isolation,
    }
}

/// Makes a token for the job of an attempt, while the attempt is not over. Each has an audit row.
///
/// # Errors
/// Gone where the attempt has ended or is another runner's; forbidden where the project, or a place above it, does not allow the
/// audience.
pub async fn issue(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    asked: IdentityRequest,
    address: Option<IpAddr>,
) -> Result<IdentityToken> {
    let mut connection = app.store.runners().await?;
    let recipient = secret::recipient(&mut connection, held(known, id, asked.lease)).await?;
    let recipient = recipient.ok_or_else(|| over(id))?;
    let project = recipient.project.as_str();
    let lists = place::audiences(&mut connection, project).await?;
    drop(connection);
    may_address(&lists, &asked.audience)
        .map_err(|refusal| not_allowed(refusal, &asked.audience))?;
    let now = app.clock.now();
    let expires = now + TOKEN_LIFETIME;
    let claims = Claims {
        iss: &app.public_url,
        aud: &asked.audience,
        iat: seconds(now),
        nbf: seconds(now),
        exp: seconds(expires),
        jti: app.fresh_id(),
        attempt: claims_of(&recipient),
    };
    let token = app
        .identity_keys
        .sign(asked.algorithm, &claims, now)
        .await?;
    let actor = actor(&recipient.runner, address);
    let (permit, job) = (actor.at(project), &claims.attempt.job);
    let detail = json!({
        "audience": asked.audience,
        "algorithm": asked.algorithm,
        "expires_at": expires,
        "subject": claims.attempt.sub,
    });
    let mut connection = app.store.runners().await?;
    audit::write(&mut connection, now, &permit, "identity.issue", job, detail).await?;
    Ok(IdentityToken {
        token: SecretText(token),
        expires_in_us: TOKEN_LIFETIME.into(),
    })
}

fn not_allowed(refusal: AudienceRefusal, audience: &str) -> ServiceError {
    let message = refusal.to_string();
    match refusal {
        AudienceRefusal::Invalid => ServiceError::invalid("audience", message),
        AudienceRefusal::NotAllowed { place, .. } => {
            let title = "The audience is not allowed";
            let remedy = format!(
                "ask for one of these, or allow it: pennine place set {place} --audience {audience}"
            );
            ServiceError::forbidden("audience-not-allowed", title, message).remedy(remedy)
        }
    }
}
