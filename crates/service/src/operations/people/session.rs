//! Signing in and out, and finding out who asks.

use crate::access::{Origin, Principal};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::failed_attempts::network;
use crate::operations::transaction::commit;
use crate::passwords::check_strength;
use crate::second_factor::{SecondFactor, recovery_hash};
use crate::secret::{self, Purpose};
use crate::validation::NAME_LENGTH;
use pennine_core::access::ActorKind;
use pennine_core::id::PersonId;
use pennine_core::time::{Moment, spoken};
use pennine_store::audit::{Actor, Permit};
use pennine_store::person::{self, Person};
use pennine_store::sign_in::{self, NewSignIn, SignIn, SignInOwner, SignInOwnerId};
use pennine_store::token::{self, Token};
use pennine_store::{Connection, Db, audit};
use pennine_wire::{LinkOwner, LinkUse};
use serde_json::json;
use std::net::IpAddr;
use std::time::Duration;
use uuid::Uuid;

/// A browser's name for itself is kept up to this many characters.
const USER_AGENT: usize = 200;

/// A sign-in that has just begun.
pub struct NewSession {
    /// The cookie's value.
    pub cookie: String,
    pub lifetime: Duration,
    pub principal: Principal,
}

/// Signs in with a token.
///
/// # Errors
/// Unauthenticated where the token is unknown, has expired, or was revoked; too many attempts where its address has shown
/// many such.
pub async fn with_token(app: &App, token: &str, origin: &Origin) -> Result<NewSession> {
    let hash = secret::hash(token.trim());
    let look_up = async {
        let now = app.clock.now();
        commit(app, async |connection| {
            let Some(found) = token::by_secret(connection, &hash, now).await? else {
                return Ok(None);
            };
            let owner = SignInOwnerId::Token(found.id);
            let session = begin(app, connection, owner, &found.name, origin).await?;
            Ok(Some(session.of(SignInOwner::Token(found))))
        })
        .await
    };
    let begun = app
        .failed_attempts
        .guard(origin.address, &hash, look_up)
        .await?;
    let Some(begun) = begun else {
        note_refusal(app, None, "sign-in with a token", origin).await;
        return Err(ServiceError::unauthenticated(
            "the token is unknown, has expired, or was revoked",
        )
        .field("token"));
    };
    Ok(begun)
}

/// A sign-in that was stored.
struct StoredSession {
    cookie: String,
    lifetime: Duration,
    row: SignIn,
}

impl StoredSession {
    fn of(self, owner: SignInOwner) -> NewSession {
        NewSession {
            cookie: self.cookie,
            lifetime: self.lifetime,
            principal: principal(owner, &self.row),
        }
    }
}

fn principal(owner: SignInOwner, session: &SignIn) -> Principal {
    match owner {
        SignInOwner::Token(token) => Principal::of_token(token, Some(session)),
        SignInOwner::Person(person) => Principal::of_person(person, session),
    }
}

/// Stores a sign-in with a cookie of its own, whatever the browser showed before.
async fn begin(
    app: &App,
    connection: &mut Connection,
    owner: SignInOwnerId,
    name: &str,
    origin: &Origin,
) -> Result<StoredSession> {
    let kind = match owner {
        SignInOwnerId::Token(_) => ActorKind::Token,
        SignInOwnerId::Person(_) => ActorKind::Person,
    };
    let now = app.clock.now();
    let cookie = secret::fresh(Purpose::Cookie);
    let lifetime = Duration::from_secs(app.config.session.hours.saturating_mul(3600));
    let user_agent: String = origin.user_agent.chars().take(USER_AGENT).collect();
    let new = NewSignIn {
        id: app.fresh_id(),
        secret_hash: &secret::hash(&cookie),
        owner,
        at: now,
        until: now + lifetime,
        address: origin.shown(),
        user_agent: &user_agent,
    };
    let row = SignIn {
        id: new.id,
        created_at: Db(now),
        expires_at: Db(new.until),
        address: new.address.clone(),
        user_agent: user_agent.clone(),
        last_used_at: Db(now),
        last_used_from: new.address.clone(),
    };
    sign_in::insert(connection, new).await?;
    let detail = json!({"user_agent": user_agent});
    let permit = permit(kind, name, origin);
    audit::write(connection, now, &permit, "session.begin", name, detail).await?;
    Ok(StoredSession {
        cookie,
        lifetime,
        row,
    })
}

/// Returns the permit of a sign-in's audit row.
fn permit(kind: ActorKind, name: &str, origin: &Origin) -> Permit {
    let mut permit = Actor::named(kind, name).at("");
    permit.actor.address = origin.shown();
    permit.actor.request.clone_from(&origin.request);
    permit
}

/// The name as it is kept and compared: capitals and surrounding spaces do not matter.
fn folded(name: &str) -> String {
    let name: String = name.trim().chars().take(NAME_LENGTH).collect();
    name.to_lowercase()
}

/// The address as failures are counted by it.
fn network_of(address: Option<IpAddr>) -> String {
    address.map_or_else(String::new, |address| network(address).to_string())
}

/// Signs in as a person. Whether there is such an account makes no difference to the answer, nor to how long it takes.
///
/// # Errors
/// Unauthenticated where name, password or code are wrong, or the account is disabled; `second-factor-needed` where they are
/// right and the account has a second factor; too many attempts where many have failed.
pub async fn with_password(
    app: &App,
    name: &str,
    password: &str,
    code: Option<&str>,
    origin: &Origin,
) -> Result<NewSession> {
    let name = folded(name);
    let network = network_of(origin.address);
    require_turn(app, &name, &network).await?;
    let key = app
        .passwords
        .key(&[&name, password, code.unwrap_or_default()]);
    let look_up = async {
        let begun = try_password(app, &name, password, code, origin).await?;
        if begun.is_none() {
            let mut connection = app.store.people().await?;
            sign_in::note_failure(&mut connection, &name, &network, app.clock.now()).await?;
        }
        Ok(begun)
    };
    let begun = app
        .failed_attempts
        .guard(origin.address, &key, look_up)
        .await?;
    let Some(begun) = begun else {
        note_refusal(app, None, &format!("sign-in as {name}"), origin).await;
        return Err(wrong_password());
    };
    Ok(begun)
}

fn wrong_password() -> ServiceError {
    ServiceError::unauthenticated("the name, the password or the code is wrong")
        .field("password")
        .remedy("try again, or ask an administrator for a new sign-in link")
}

/// Refuses to try a password where many have failed.
async fn require_turn(app: &App, name: &str, network: &str) -> Result<()> {
    let now = app.clock.now();
    let history = sign_in::history(&mut *app.store.people().await?, name, network, now).await?;
    let wait = history.wait(now);
    if wait.is_zero() {
        return Ok(());
    }
    let message = "many sign-ins under this name have failed";
    Err(ServiceError::too_many(message, wait).remedy(format!("try again in {}", spoken(wait))))
}

async fn try_password(
    app: &App,
    name: &str,
    password: &str,
    code: Option<&str>,
    origin: &Origin,
) -> Result<Option<NewSession>> {
    let found = person::find(&mut *app.store.people().await?, name).await?;
    let found = found.filter(|person| person.disabled_at.is_none());
    let kept = found.as_ref().and_then(|found| found.password_hash.clone());
    if !app.passwords.matches(password, kept.as_deref()).await? {
        return Ok(None);
    }
    commit(app, async |connection| {
        // It may have changed meanwhile.
        let Some(person) = person::lock(connection, name).await? else {
            return Ok(None);
        };
        if person.disabled_at.is_some() || person.password_hash != kept {
            return Ok(None);
        }
        if !accepts_code(app, connection, &person, code).await? {
            return Ok(None);
        }
        Ok(Some(begin_as(app, connection, person, origin).await?))
    })
    .await
}

/// Begins a sign-in of a person whose password and code were right.
pub async fn begin_as(
    app: &App,
    connection: &mut Connection,
    person: Person,
    origin: &Origin,
) -> Result<NewSession> {
    let (id, name) = (person.id.0, person.name.clone());
    let network = network_of(origin.address);
    sign_in::note_success(connection, id, &name, &network, app.clock.now()).await?;
    let session = begin(app, connection, SignInOwnerId::Person(id), &name, origin).await?;
    Ok(session.of(SignInOwner::Person(person)))
}

/// Whether a code is the person's: of the second factor, or a recovery code. Each is accepted once. True where the account has
/// no second factor.
///
/// # Errors
/// `second-factor-needed` where there is no code and one is needed.
async fn accepts_code(
    app: &App,
    connection: &mut Connection,
    person: &Person,
    code: Option<&str>,
) -> Result<bool> {
    if !person.has_second_factor() {
        return Ok(true);
    }
    let Some(code) = code.map(str::trim).filter(|code| !code.is_empty()) else {
        return Err(ServiceError::second_factor_needed());
    };
    let factor = second_factor_of(app, person)?;
    if let Some(step) = factor.step_of(code, app.clock.now()) {
        return Ok(person::use_step(connection, person.id.0, step).await?);
    }
    Ok(person::use_recovery_code(connection, person.id.0, &recovery_hash(code)).await?)
}

/// Opens the second factor of a person, also one that is not confirmed.
///
/// # Errors
/// Internal where it cannot be decrypted.
pub fn second_factor_of(app: &App, person: &Person) -> Result<SecondFactor> {
    let locked = person.totp_secret.as_deref().unwrap_or_default();
    let opened = app
        .encryption
        .open(&second_factor_name(person.id.0), locked)
        .map_err(|error| ServiceError::internal(format!("a second factor: {error}")))?;
    SecondFactor::of(&opened).ok_or_else(|| ServiceError::internal("a second factor is damaged"))
}

/// The name under which a person's second factor is encrypted.
pub fn second_factor_name(person: PersonId) -> String {
    format!("second factor of {person}")
}

/// Checks a person's own password once more, as for a sign-in.
///
/// # Errors
/// Invalid where it is wrong; too many attempts where many have failed.
pub async fn prove(
    app: &App,
    person: &Person,
    password: &str,
    field: &str,
    origin: &Origin,
) -> Result<()> {
    let network = network_of(origin.address);
    require_turn(app, &person.name, &network).await?;
    let kept = person.password_hash.as_deref();
    if app.passwords.matches(password, kept).await? {
        return Ok(());
    }
    let mut connection = app.store.people().await?;
    sign_in::note_failure(&mut connection, &person.name, &network, app.clock.now()).await?;
    Err(ServiceError::invalid(field, "the password is wrong"))
}

/// Says whose a one-time link is.
///
/// # Errors
/// Unknown where the link was used, has expired, or never was; too many attempts where the address has shown many such.
pub async fn link_owner(app: &App, link: &str, origin: &Origin) -> Result<LinkOwner> {
    let found = find_link(app, link, origin).await?;
    Ok(LinkOwner {
        needs_code: found.person.has_second_factor() && !found.resets,
        name: found.person.name,
        full_name: found.person.full_name,
        installation: app.installation.name.clone(),
        expires_at: found.expires_at.0,
    })
}

async fn find_link(app: &App, link: &str, origin: &Origin) -> Result<sign_in::Link> {
    let hash = secret::hash(link.trim());
    let look_up = async {
        let mut connection = app.store.people().await?;
        Ok(sign_in::link(&mut connection, &hash, app.clock.now()).await?)
    };
    let found = app
        .failed_attempts
        .guard(origin.address, &hash, look_up)
        .await?;
    found.ok_or_else(unknown_link)
}

fn unknown_link() -> ServiceError {
    ServiceError::gone(
        "link-used",
        "The link is no longer valid",
        "the link was used, has expired, or was replaced by a newer one",
    )
    .remedy("sign in with your password, or ask an administrator for another link (pennine person link NAME)")
}

/// Sets a password with a one-time link, and signs in. The person's other sign-ins end.
///
/// # Errors
/// Gone where the link is not valid; invalid where the password is too weak, or a code is needed and wrong.
pub async fn with_link(app: &App, sent: &LinkUse, origin: &Origin) -> Result<NewSession> {
    let found = find_link(app, &sent.link, origin).await?;
    check_strength("password", &sent.password)?;
    let hash = secret::hash(sent.link.trim());
    let password = app.passwords.hash(&sent.password).await?;
    let person = &found.person;
    let begun = commit(app, async |connection| {
        let Some(mut person) = person::lock(connection, &person.name).await? else {
            return Err(unknown_link());
        };
        // Where two use it at once, the second finds it gone.
        if person.disabled_at.is_some() || !sign_in::use_link(connection, &hash).await? {
            return Err(unknown_link());
        }
        if found.resets {
            person::remove_second_factor(connection, person.id.0).await?;
        } else if !accepts_code(app, connection, &person, sent.code.as_deref()).await? {
            return Err(ServiceError::invalid("code", "the code is wrong"));
        }
        person::set_password(connection, person.id.0, &password).await?;
        sign_in::end_others(connection, person.id.0, None).await?;
        let detail = json!({"removes_second_factor": found.resets});
        let (now, name) = (app.clock.now(), person.name.clone());
        let permit = permit(ActorKind::Person, &name, origin);
        audit::write(connection, now, &permit, "account.password", &name, detail).await?;
        person.password_hash = Some(password.clone());
        begin_as(app, connection, person, origin).await
    })
    .await?;
    app.principals.invalidate_all();
    Ok(begun)
}

/// Ends the sign-in of a cookie.
pub async fn sign_out(app: &App, cookie: &str, origin: &Origin) -> Result<()> {
    let (now, hash) = (app.clock.now(), secret::hash(cookie));
    commit(app, async |connection| {
        let Some((owner, session)) = sign_in::by_cookie(connection, &hash, now).await? else {
            return Ok(());
        };
        sign_in::end(connection, &hash).await?;
        let Actor { kind, name, .. } = principal(owner, &session).actor;
        let permit = permit(kind, &name, origin);
        Ok(audit::write(connection, now, &permit, "session.end", &name, json!({})).await?)
    })
    .await?;
    app.principals.invalidate_all();
    Ok(())
}

/// Records a refusal, or a failed sign-in. The same refusal is recorded once a minute, so that repeated requests do not fill the
/// record.
pub async fn note_refusal(app: &App, who: Option<&Principal>, what: &str, origin: &Origin) {
    let key = (who.map(|who| who.id), what.to_owned());
    let is_new = app.refusals.entry_by_ref(&key).or_insert(()).is_fresh();
    if !is_new {
        return;
    }
    let name = who.map_or("", |who| who.name.as_str());
    let permit = match who {
        Some(who) => who.own_permit(),
        None => permit(ActorKind::Service, "", origin),
    };
    let written = async {
        let mut connection = app.store.people().await?;
        audit::write(
            &mut connection,
            app.clock.now(),
            &permit,
            "refused",
            what,
            json!({}),
        )
        .await
    };
    if let Err(error) = written.await {
        app.refusals.invalidate(&key);
        tracing::warn!(%error, who = name, what, "a refusal could not be recorded");
    }
}

/// Notes that a token or a sign-in was used. Where that fails, the request goes on.
async fn note_use(
    connection: &mut Connection,
    token: Option<&Token>,
    session: Option<&SignIn>,
    peer: Option<IpAddr>,
    now: Moment,
) {
    let from = peer.map(|address| address.to_canonical().to_string());
    let noted = async {
        if let Some(token) = token {
            token::note_use(connection, token, from.as_deref(), now).await?;
        }
        if let Some(session) = session {
            sign_in::note_use(connection, session, from.as_deref(), now).await?;
        }
        Ok::<_, pennine_store::Error>(())
    };
    if let Err(error) = noted.await {
        tracing::warn!(%error, "the use of a token or a sign-in could not be recorded");
    }
}

/// Returns the principal of a key from the cache, or looks it up.
///
/// # Errors
/// That of the look-up; too many attempts where the address has shown many unknown secrets.
async fn cached(
    app: &App,
    key: Vec<u8>,
    peer: Option<IpAddr>,
    look_up: impl Future<Output = Result<Option<Principal>>>,
) -> Result<Option<Principal>> {
    let now = app.clock.now();
    let holds = |principal: &Principal| principal.holds_at(now);
    if let Some(principal) = app.principals.get(&key).filter(holds) {
        return Ok(Some(principal));
    }
    let found = app.failed_attempts.guard(peer, &key, look_up).await?;
    if let Some(principal) = &found {
        app.principals.insert(key, principal.clone());
    }
    Ok(found)
}

/// Returns who shows this token.
///
/// # Errors
/// Unauthenticated where the token is unknown, has expired, or was revoked; one that is revoked is refused a second later
/// at most. Too many attempts where its address has shown many such.
pub async fn by_token(app: &App, secret: &str, peer: Option<IpAddr>) -> Result<Principal> {
    let hash = secret::hash(secret);
    let look_up = async {
        let mut connection = app.store.people().await?;
        let now = app.clock.now();
        let found = token::by_secret(&mut connection, &hash, now).await?;
        if let Some(token) = &found {
            note_use(&mut connection, Some(token), None, peer, now).await;
        }
        Ok(found.map(|token| Principal::of_token(token, None)))
    };
    let found = cached(app, hash.clone(), peer, look_up).await?;
    found.ok_or_else(|| {
        ServiceError::unauthenticated("the token is unknown, has expired, or was revoked")
    })
}

/// Returns who shows this cookie.
///
/// # Errors
/// Unauthenticated where the sign-in has ended; too many attempts where its address has shown many unknown cookies.
pub async fn by_cookie(app: &App, cookie: &str, peer: Option<IpAddr>) -> Result<Principal> {
    let hash = secret::hash(cookie);
    let key = [b"cookie ", hash.as_slice()].concat();
    let look_up = async {
        let mut connection = app.store.people().await?;
        let now = app.clock.now();
        let found = sign_in::by_cookie(&mut connection, &hash, now).await?;
        let Some((owner, session)) = found else {
            return Ok(None);
        };
        let token = match &owner {
            SignInOwner::Token(token) => Some(token),
            SignInOwner::Person(_) => None,
        };
        note_use(&mut connection, token, Some(&session), peer, now).await;
        Ok(Some(principal(owner, &session)))
    };
    let found = cached(app, key, peer, look_up).await?;
    found.ok_or_else(|| ServiceError::unauthenticated("the sign-in has ended"))
}

/// A one-time link of a person, stored by its hash; returns the link and when it expires.
pub async fn make_link(
    app: &App,
    connection: &mut Connection,
    person: &Person,
    lifetime: Duration,
    resets: bool,
) -> Result<(String, Moment)> {
    let link = secret::fresh(Purpose::Link);
    let now = app.clock.now();
    let until = now + lifetime;
    let hash = secret::hash(&link);
    sign_in::add_link(connection, person.id.0, &hash, now, until, resets).await?;
    Ok((link_address(&app.public_url, &link), until))
}

/// The address of a one-time link. Its secret stands behind `#`, which browsers do not send.
pub fn link_address(public_url: &str, link: &str) -> String {
    format!("{public_url}/welcome#{link}")
}

/// The id of a person who is signed in.
///
/// # Errors
/// Forbidden where a token asks.
pub fn own_session(who: &Principal) -> Result<(pennine_core::id::PersonId, Option<Uuid>)> {
    let person = who.signed_in_person().ok_or_else(|| {
        ServiceError::forbidden(
            "person-needed",
            "Only a person who is signed in may do this",
            "a token has no account of its own",
        )
        .remedy("sign in at the console with your name and password")
    })?;
    Ok((person, who.session))
}
