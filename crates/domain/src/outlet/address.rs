//! Addresses of brokers and databases.

/// A broker's address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokerAddress {
    /// Its host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Whether TLS is spoken.
    pub tls: bool,
}

impl BrokerAddress {
    /// From `mqtts://HOST:PORT` or `mqtt://HOST:PORT`.
    ///
    /// # Errors
    /// What is allowed, in words.
    pub fn read(url: &str) -> Result<Self, String> {
        let wrong = || "mqtts://HOST:PORT or mqtt://HOST:PORT is allowed, with no name or password in it".to_owned();
        let (scheme, rest) = url.split_once("://").ok_or_else(wrong)?;
        let (usual, tls) = match scheme {
            "mqtt" => (1883, false),
            "mqtts" => (8883, true),
            _ => return Err(wrong()),
        };
        let (host, port) = host_and_port(rest.strip_suffix('/').unwrap_or(rest), usual).ok_or_else(wrong)?;
        Ok(Self { host, port, tls })
    }
}

/// What kind of database it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// MariaDB, and what speaks its protocol.
    MariaDb,
    /// PostgreSQL.
    PostgreSql,
}

/// A database's address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseAddress {
    /// Its kind.
    pub dialect: Dialect,
    /// Its host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The database's name.
    pub database: String,
}

impl DatabaseAddress {
    /// From `mariadb://HOST:PORT/DATABASE` or `postgres://HOST:PORT/DATABASE`.
    ///
    /// # Errors
    /// What is allowed, in words.
    pub fn read(url: &str) -> Result<Self, String> {
        let wrong = || {
            "mariadb://HOST:PORT/DATABASE or postgres://HOST:PORT/DATABASE is allowed, with no name or password in it"
                .to_owned()
        };
        let (scheme, rest) = url.split_once("://").ok_or_else(wrong)?;
        let (dialect, usual) = match scheme {
            "mariadb" => (Dialect::MariaDb, 3306),
            "postgres" | "postgresql" => (Dialect::PostgreSql, 5432),
            _ => return Err(wrong()),
        };
        let (place, database) = rest.split_once('/').ok_or_else(wrong)?;
        let (host, port) = host_and_port(place, usual).ok_or_else(wrong)?;
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
        if database.is_empty() || database.len() > 64 || !database.chars().all(plain) {
            return Err(wrong());
        }
        Ok(Self { dialect, host, port, database: database.to_owned() })
    }
}

/// A host's name or address, and a port.
fn host_and_port(text: &str, usual: u16) -> Option<(String, u16)> {
    let (host, port) = match text.rsplit_once(':') {
        Some((host, port)) if !port.ends_with(']') => (host, port.parse().ok().filter(|port| *port > 0)?),
        _ => (text, usual),
    };
    let literal = host.starts_with('[') && host.ends_with(']');
    let plain =
        |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_') || literal && matches!(c, ':' | '[' | ']');
    let good = !host.is_empty() && host.len() <= 253 && host.chars().all(plain);
    good.then(|| (host.trim_matches(['[', ']']).to_owned(), port))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn brokers_are_read_or_refused() {
        let read = |url: &str| BrokerAddress::read(url).map(|b| (b.host, b.port, b.tls));
        assert_eq!(read("mqtts://broker.example"), Ok(("broker.example".into(), 8883, true)));
        assert_eq!(read("mqtt://192.0.2.7:1884/"), Ok(("192.0.2.7".into(), 1884, false)));
        assert_eq!(read("mqtts://[2001:db8::1]:8884"), Ok(("2001:db8::1".into(), 8884, true)));
        for bad in
            ["broker", "http://b", "mqtt://", "mqtt://a:b@c", "mqtt://h:0", "mqtt://h:99999", "mqtt://h/x", "mqtt://h:"]
        {
            assert!(read(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn databases_are_read_or_refused() {
        let read = |url: &str| DatabaseAddress::read(url).map(|d| (d.dialect, d.host, d.port, d.database));
        assert_eq!(read("mariadb://db.example/quay"), Ok((Dialect::MariaDb, "db.example".into(), 3306, "quay".into())));
        assert_eq!(read("postgres://[::1]:5433/quay"), Ok((Dialect::PostgreSql, "::1".into(), 5433, "quay".into())));
        for bad in ["mysql://h/d", "postgres://h", "postgres://h/", "postgres://a@h/d", "postgres://h/d?x=y", "h/d"] {
            assert!(read(bad).is_err(), "{bad}");
        }
    }
}
