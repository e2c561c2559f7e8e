//! The texts in the database that are encrypted with the installation's key file, each as `KEY-ID:...`, so that they can be
//! encrypted with another key.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bool, Text};
use std::fmt;
use std::str::FromStr;

/// What a text is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EncryptedKind {
    /// A secret of jobs; its subject is the secret's id.
    Secret,
    /// The private part of a key that signs identity tokens; the key's id.
    SigningKey,
    /// A second factor; the person's id.
    SecondFactor,
    /// The secret with which events are signed; the listener's id.
    Listener,
    /// The one before it; the listener's id.
    PreviousListener,
    /// A supplier's; its name, and the setting's key.
    Supplier,
}

impl EncryptedKind {
    const ALL: [EncryptedKind; 6] = [
        EncryptedKind::Secret,
        EncryptedKind::SigningKey,
        EncryptedKind::SecondFactor,
        EncryptedKind::Listener,
        EncryptedKind::PreviousListener,
        EncryptedKind::Supplier,
    ];

    fn word(self) -> &'static str {
        match self {
            EncryptedKind::Secret => "secret",
            EncryptedKind::SigningKey => "signing key",
            EncryptedKind::SecondFactor => "second factor",
            EncryptedKind::Listener => "listener secret",
            EncryptedKind::PreviousListener => "previous listener secret",
            EncryptedKind::Supplier => "supplier secret",
        }
    }
}

impl fmt::Display for EncryptedKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl FromStr for EncryptedKind {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let mut all = EncryptedKind::ALL.into_iter();
        all.find(|kind| kind.word() == text)
            .ok_or_else(|| format!("unknown kind of encrypted text: {text}"))
    }
}

/// An encrypted text.
#[derive(Clone, PartialEq, Eq, Debug, QueryableByName)]
pub struct EncryptedText {
    #[diesel(sql_type = Text)]
    pub kind: Db<EncryptedKind>,
    /// Of what: see [`EncryptedKind`].
    #[diesel(sql_type = Text)]
    pub subject: String,
    /// The key of a supplier's setting; empty for others.
    #[diesel(sql_type = Text)]
    pub setting: String,
    #[diesel(sql_type = Text)]
    pub text: String,
}

/// All encrypted texts.
macro_rules! texts {
    () => {
        "(select 'secret' as kind, id::text as subject, '' as setting, locked as text from secret where locked is not null
          union all select 'signing key', id, '', locked from signing_key
          union all select 'second factor', id::text, '', totp_secret from person where totp_secret is not null
          union all select 'listener secret', id::text, '', secret from listener
          union all select 'previous listener secret', id::text, '', previous_secret from listener where previous_secret is not null
          union all select 'supplier secret', s.name, e.key, e.value from supplier s, jsonb_each_text(s.secrets) e) t"
    };
}

/// The texts that are encrypted with none of these keys, in order, after this one.
pub async fn of_other_keys(
    connection: &mut Connection,
    keys: &[String],
    after: Option<&EncryptedText>,
    limit: i64,
) -> Result<Vec<EncryptedText>> {
    let none = (String::new(), String::new(), String::new());
    let (kind, subject, setting) = after.map_or(none, |after| {
        let (subject, setting) = (after.subject.clone(), after.setting.clone());
        (after.kind.to_string(), subject, setting)
    });
    Ok(sql!(
        "select kind, subject, setting, text from " texts!() "
         where split_part(text, ':', 1) <> all(:keys) and (kind, subject, setting) > (:kind, :subject, :setting)
         order by 1, 2, 3 limit :limit";
        keys: Array<Text> = keys,
        kind: Text = kind,
        subject: Text = subject,
        setting: Text = setting,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Puts another text in place of this one. False where it has changed meanwhile.
pub async fn replace(
    connection: &mut Connection,
    before: &EncryptedText,
    after: &str,
) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Bool)]
        replaced: bool,
    }
    let row: Row = sql!(
        "with secret_set as (
           update secret set locked = :after where :kind = 'secret' and id::text = :subject and locked = :before returning 1),
         signing_key_set as (
           update signing_key set locked = :after where :kind = 'signing key' and id = :subject and locked = :before returning 1),
         second_factor_set as (
           update person set totp_secret = :after
           where :kind = 'second factor' and id::text = :subject and totp_secret = :before returning 1),
         listener_set as (
           update listener set secret = :after
           where :kind = 'listener secret' and id::text = :subject and secret = :before returning 1),
         previous_listener_set as (
           update listener set previous_secret = :after
           where :kind = 'previous listener secret' and id::text = :subject and previous_secret = :before returning 1),
         supplier_set as (
           update supplier set secrets = jsonb_set(secrets, array[:setting], to_jsonb(:after))
           where :kind = 'supplier secret' and name = :subject and secrets->>:setting = :before returning 1)
         select exists (
           select from secret_set union all select from signing_key_set union all select from second_factor_set
           union all select from listener_set union all select from previous_listener_set union all select from supplier_set) as replaced";
        kind: Text = before.kind,
        subject: Text = &before.subject,
        setting: Text = &before.setting,
        before: Text = &before.text,
        after: Text = after,
    )
    .get_result(connection)
    .await?;
    Ok(row.replaced)
}
