//! Encrypted connections to a server.
//!
//! A server that offers one gets it, and must show a certificate that the system trusts, so that
//! nobody listens in between. `sslmode=disable` in an address does without, `sslmode=require` refuses
//! a server that offers none.

use std::sync::Arc;

use rustls::crypto::ring::default_provider;
use rustls::{ClientConfig, RootCertStore};
use tokio_postgres_rustls::MakeRustlsConnect;

/// Makes connections that trust the certificates of the system, or of the file that `SSL_CERT_FILE`
/// names.
///
/// # Errors
/// The message of the library, if it does not know its own defaults.
pub(super) fn encrypted() -> Result<MakeRustlsConnect, rustls::Error> {
    let mut trusted = RootCertStore::empty();
    // A certificate that can't be read is not trusted; this is reported when a server shows it.
    trusted.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    let config = ClientConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()?
        .with_root_certificates(trusted)
        .with_no_client_auth();
    Ok(MakeRustlsConnect::new(config))
}
