//! Connecting to a server.

use std::time::Duration;

use postgres::config::{Host, SslMode};
use postgres::{Client, Config, NoTls};

use super::ServerAddress;
use super::encryption::encrypted;
use super::password::password_for;
use crate::{Error, Result};

/// How an address is written.
const FORM: &str = "write it as postgres://USER@HOST:PORT/DATABASE#TABLE";

/// How long a server may take to answer at all.
const PATIENCE: Duration = Duration::from_secs(15);

impl ServerAddress {
    /// Connects to the server.
    ///
    /// # Errors
    /// [`Error::Server`] when the address is malformed, nobody answers, or the server refuses.
    pub(super) fn connect(&self) -> Result<Client> {
        let failed = |said: String, fix| Error::Server { name: self.database(), said, fix };
        self.check().map_err(|said| failed(said, FORM))?;
        let url = self.database();
        let mut config: Config =
            url.parse().map_err(|error: postgres::Error| failed(reported(&error), FORM))?;
        if let Some(password) = self.password() {
            config.password(password);
        }
        if config.get_hosts().is_empty() && config.get_hostaddrs().is_empty() {
            config.host("localhost");
        }
        if config.get_password().is_none() {
            let host = config.get_hosts().first().map_or("localhost", |host| match host {
                Host::Tcp(host) => &host[..],
                #[cfg(unix)]
                Host::Unix(_) => "localhost",
            });
            let port = config.get_ports().first().copied().unwrap_or(5432);
            let user = config.get_user().unwrap_or_default();
            let database = config.get_dbname().unwrap_or(user);
            let wanted = [host, &port.to_string(), database, user];
            if let Some(password) = password_for(&self.database(), wanted)? {
                config.password(password);
            }
        }
        if config.get_connect_timeout().is_none() {
            config.connect_timeout(PATIENCE);
        }
        config.application_name("gather-keys");
        let connected = match config.get_ssl_mode() {
            SslMode::Disable => config.connect(NoTls),
            _ => {
                let encrypted = encrypted();
                let encrypted =
                    encrypted.map_err(|error| failed(error.to_string(), "use ?sslmode=disable"))?;
                config.connect(encrypted)
            }
        };
        connected.map_err(|error| {
            let said = reported(&error);
            let fix = match error.as_db_error() {
                None if said.contains("password") => {
                    "give one in PGPASSWORD or the password file, ~/.pgpass"
                }
                None if said.contains("certificate") => {
                    "let the system trust the server's, or name its file in SSL_CERT_FILE; \
                     ?sslmode=disable goes without encryption"
                }
                None if said.contains("TLS") => {
                    "the server offers no encryption; ?sslmode=disable goes without"
                }
                _ => "check the address, the user and the password, and that the server is running",
            };
            failed(said, fix)
        })
    }
}

/// The message of the server, or why there is none.
pub(super) fn reported(error: &postgres::Error) -> String {
    if let Some(said) = error.as_db_error() {
        return said.message().to_owned();
    }
    let mut cause: &dyn std::error::Error = error;
    while let Some(behind) = cause.source() {
        cause = behind;
    }
    cause.to_string()
}
