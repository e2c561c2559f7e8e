//! HTTP to addresses that people enter: suppliers and listeners. Whoever may enter one must not thereby reach services that
//! are only meant for the service's own host or network, such as a metadata service or a database's administration.

use ipnet::IpNet;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use std::sync::Arc;

/// Networks that are not on the public internet (the special-purpose address registries of RFC 6890, without documentation
/// and benchmarking).
const PRIVATE: [&str; 15] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "224.0.0.0/4",
    "240.0.0.0/4",
    "::/127",
    "64:ff9b:1::/48",
    "fc00::/7",
    "fe80::/10",
    "fec0::/10",
    "ff00::/8",
];

/// Which addresses may be connected to: public ones, and those of networks that the configuration allows.
#[derive(Clone, Debug, Default)]
pub struct AddressPolicy {
    allowed: Arc<[IpNet]>,
}

/// An address that may not be connected to.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error(
    "{0} is a private address; add its network to [outgoing] allow in the service's configuration"
)]
pub struct PrivateAddress(pub IpAddr);

/// A text that is no network.
#[derive(Debug, thiserror::Error)]
#[error("{0:?} is not a network, such as 10.0.0.0/8 or fd00::/8")]
pub struct NotANetwork(String);

impl AddressPolicy {
    /// Public addresses, and these networks.
    ///
    /// # Errors
    /// One of the texts is no network.
    pub fn allowing(networks: &[String]) -> Result<AddressPolicy, NotANetwork> {
        let parse = |text: &String| IpNet::from_str(text).map_err(|_| NotANetwork(text.clone()));
        let allowed: Result<Vec<IpNet>, _> = networks.iter().map(parse).collect();
        Ok(AddressPolicy {
            allowed: allowed?.into(),
        })
    }

    /// # Errors
    /// The address is private and in no network that is allowed.
    pub fn check(&self, address: IpAddr) -> Result<(), PrivateAddress> {
        let address = address.to_canonical();
        let mut private = PRIVATE.iter().filter_map(|text| IpNet::from_str(text).ok());
        let is_private = private.any(|network| network.contains(&address));
        if !is_private
            || self
                .allowed
                .iter()
                .any(|network| network.contains(&address))
        {
            return Ok(());
        }
        Err(PrivateAddress(address))
    }

    /// Checks an URL whose host is an address. One with a name is checked when it is resolved.
    ///
    /// # Errors
    /// As [`Self::check`].
    pub fn check_url(&self, url: &reqwest::Url) -> Result<(), PrivateAddress> {
        let host = url.host_str().unwrap_or_default();
        match host.trim_matches(['[', ']']).parse::<IpAddr>() {
            Ok(address) => self.check(address),
            Err(_) => Ok(()),
        }
    }

    /// A client that resolves names to addresses that may be connected to, and follows no redirections. The address of a
    /// request has to be checked with [`Self::check_url`] as well, because one that is no name is not resolved.
    pub fn client(&self) -> reqwest::ClientBuilder {
        // Another part of the program may have chosen it before.
        let _ = rustls::crypto::ring::default_provider().install_default();
        reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            // A proxy of the environment would resolve names itself.
            .no_proxy()
            .dns_resolver(Arc::new(PublicNames(self.clone())))
    }
}

/// Resolves names, and leaves out addresses that may not be connected to.
struct PublicNames(AddressPolicy);

impl fmt::Debug for PublicNames {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("PublicNames")
    }
}

impl Resolve for PublicNames {
    fn resolve(&self, name: Name) -> Resolving {
        let policy = self.0.clone();
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let mut refused = None;
            let permitted: Vec<SocketAddr> = found
                .filter(|address| match policy.check(address.ip()) {
                    Ok(()) => true,
                    Err(error) => {
                        refused = Some(error);
                        false
                    }
                })
                .collect();
            match (permitted.is_empty(), refused) {
                (true, Some(refused)) => Err(refused.into()),
                _ => Ok(Box::new(permitted.into_iter()) as Addrs),
            }
        })
    }
}

/// Reads an answer up to a size.
///
/// # Errors
/// Why it cannot be read, for people; it is longer.
pub async fn read_bounded(mut answer: reqwest::Response, most: usize) -> Result<Vec<u8>, String> {
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await.map_err(|error| error.to_string())? {
        if bytes.len() + chunk.len() > most {
            return Err(format!("it is longer than {most} bytes"));
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn private_addresses_are_refused_unless_their_network_is_allowed() {
        let policy =
            AddressPolicy::allowing(&["10.1.0.0/16".into(), "fd00:7::/32".into()]).unwrap();
        for (address, permitted) in [
            ("192.0.43.8", true),
            ("2001:500:88:200::8", true),
            ("127.0.0.1", false),
            ("::1", false),
            ("::ffff:127.0.0.1", false),
            ("169.254.169.254", false),
            ("0.0.0.0", false),
            ("10.2.0.1", false),
            ("10.1.0.1", true),
            ("fd00:8::1", false),
            ("fd00:7::1", true),
            ("fe80::1", false),
        ] {
            let found = policy.check(address.parse().unwrap());
            assert_eq!(found.is_ok(), permitted, "{address}");
        }
        for (url, permitted) in [
            ("http://127.0.0.1:9/", false),
            ("http://[::1]/", false),
            ("http://0x7f000001/", false),
            ("http://bell.skerry.example/", true),
        ] {
            let found = policy.check_url(&url.parse().unwrap());
            assert_eq!(found.is_ok(), permitted, "{url}");
        }
        assert!(AddressPolicy::allowing(&["everything".into()]).is_err());
    }

    #[tokio::test]
    async fn a_name_of_a_private_address_is_not_connected_to() {
        let client = AddressPolicy::default().client().build().unwrap();
        let error = client.get("http://localhost:9/").send().await.unwrap_err();
        let mut cause: &dyn std::error::Error = &error;
        while let Some(inner) = cause.source() {
            cause = inner;
        }
        assert!(
            cause.to_string().contains("is a private address"),
            "{cause}"
        );
    }
}
