//! An address of map tiles that an operator has.

use std::str::FromStr;

use thiserror::Error;

/// An address of tiles, with placeholders for level, column and row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TileAddress {
    address: String,
    origin: String,
}

/// It is no address of tiles.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TileAddressError {
    /// Not a web address.
    #[error("it has to begin with https:// or http://")]
    Scheme,
    /// Its host cannot be one.
    #[error("{0:?} is no host with or without a port")]
    Host(String),
    /// A placeholder is missing.
    #[error("it has to contain {0}, as in https://tiles.example/{{z}}/{{x}}/{{y}}.png")]
    Placeholder(&'static str),
    /// A character that cannot stand in an address.
    #[error("{0:?} cannot stand in it")]
    Character(char),
}

impl TileAddress {
    /// The address, with `{z}`, `{x}` and `{y}`.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// What a browser has to be allowed to load from (RFC 6454, section 6.2).
    pub fn origin(&self) -> &str {
        &self.origin
    }
}

impl FromStr for TileAddress {
    type Err = TileAddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let text = text.trim();
        // Of what may stand in an address (RFC 3986, section 2), what would end a part of a browser's policy is not taken.
        let allowed =
            |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '\'' | '<' | '>' | '\\' | '^' | '`' | '|' | ';' | ',');
        if let Some(wrong) = text.chars().find(|c| !allowed(*c)) {
            return Err(TileAddressError::Character(wrong));
        }
        let (scheme, rest) = text.split_once("://").ok_or(TileAddressError::Scheme)?;
        if !matches!(scheme, "https" | "http") {
            return Err(TileAddressError::Scheme);
        }
        let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '[' | ']');
        if host.is_empty() || !host.chars().all(plain) || !host.contains(|c: char| c.is_ascii_alphanumeric()) {
            return Err(TileAddressError::Host(host.to_owned()));
        }
        for placeholder in ["{z}", "{x}", "{y}"] {
            if !text.contains(placeholder) {
                return Err(TileAddressError::Placeholder(placeholder));
            }
        }
        Ok(Self { address: text.to_owned(), origin: format!("{scheme}://{host}") })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_says_where_a_browser_loads_from() {
        let read = |text: &str| text.parse::<TileAddress>().map(|tiles| tiles.origin().to_owned());
        assert_eq!(
            read(" https://tiles.example:8443/a/{z}/{x}/{y}.png?key=b "),
            Ok("https://tiles.example:8443".into())
        );
        assert_eq!(read("http://[::1]:81/{z}/{x}/{y}"), Ok("http://[::1]:81".into()));
        assert_eq!(read("ftp://tiles.example/{z}/{x}/{y}"), Err(TileAddressError::Scheme));
        assert_eq!(read("/{z}/{x}/{y}"), Err(TileAddressError::Scheme));
        assert_eq!(read("https://tiles.example/{z}/{x}"), Err(TileAddressError::Placeholder("{y}")));
        assert_eq!(read("https:///{z}/{x}/{y}"), Err(TileAddressError::Host(String::new())));
        // A password, or a host with placeholders, is not what a policy can name.
        assert_eq!(
            read("https://a:b@tiles.example/{z}/{x}/{y}"),
            Err(TileAddressError::Host("a:b@tiles.example".into()))
        );
        assert!(matches!(read("https://{s}.example/{z}/{x}/{y}"), Err(TileAddressError::Host(_))));
        for (text, wrong) in
            [("https://a.example/{z}/{x}/{y}; script-src *", ';'), ("https://a.example/{z} {x}/{y}", ' ')]
        {
            assert_eq!(read(text), Err(TileAddressError::Character(wrong)), "{text}");
        }
    }
}
