//! Connections to servers outside that libraries speak with which look up names and connect by themselves.
//!
//! Such a library would look a name up again after it was checked, and might be led elsewhere. So the connection is made here,
//! to the address that was checked, and the library is given a socket in a folder of its own: what it writes there is passed on.

use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context as _, Result, anyhow};
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, RootCertStore};
use tokio::io::{AsyncRead, AsyncWrite, copy_bidirectional};
use tokio::net::{TcpStream, UnixListener};
use tokio::task::JoinHandle;
use tokio_rustls::TlsConnector;

use crate::net::outside::{Leads, inside, look_up};

/// How long a connection may take.
pub(crate) const CONNECT: Duration = Duration::from_secs(5);
/// How long the library may take to come.
const COME: Duration = Duration::from_secs(5);

/// A server outside.
#[derive(Clone)]
pub(crate) struct Server {
    pub host: String,
    pub port: u16,
    /// By what TLS is spoken, if it is.
    pub tls: Option<Arc<ClientConfig>>,
    /// Hosts of the local network that the operator allows.
    pub allowed: Arc<[String]>,
}

/// What can be read and written.
trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

/// A connection, and the socket that it is reached by.
pub(crate) struct Passage {
    /// The socket's file.
    pub socket: PathBuf,
    folder: tempfile::TempDir,
    task: JoinHandle<()>,
}

impl Drop for Passage {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Passage {
    /// Connects to a server. The library connects once, to the file `name` in a folder that only this account may enter.
    ///
    /// # Errors
    /// The server cannot be reached, or it is inside and not allowed.
    pub(crate) async fn open(server: &Server, name: &str) -> Result<Self> {
        let mut outside =
            tokio::time::timeout(CONNECT, server.connect()).await.map_err(|_| anyhow!("no connection in time"))??;
        let folder = tempfile::Builder::new().prefix("keen-heron-").tempdir().context("making a socket")?;
        let socket = folder.path().join(name);
        let listener = UnixListener::bind(&socket).context("making a socket")?;
        let task = tokio::spawn(async move {
            let come = tokio::time::timeout(COME, listener.accept()).await;
            if let Ok(Ok((mut inside, _))) = come {
                // Either side may end it at any time.
                let _ = copy_bidirectional(&mut inside, &mut outside).await;
            }
        });
        Ok(Self { socket, folder, task })
    }

    /// The folder of the socket.
    pub(crate) fn folder(&self) -> &Path {
        self.folder.path()
    }
}

impl Server {
    async fn connect(&self) -> Result<Box<dyn Stream>> {
        let stream = match look_up(&self.host, self.port, &self.allowed).await? {
            Leads::Outside(found) => {
                let addresses: Vec<SocketAddr> = found.into_iter().map(|ip| SocketAddr::new(ip, self.port)).collect();
                TcpStream::connect(addresses.as_slice()).await
            }
            Leads::Allowed => TcpStream::connect((self.host.as_str(), self.port)).await,
            Leads::Inside => return Err(inside(&self.host)),
        };
        let stream = stream.map_err(|why| anyhow!("no connection: {why}"))?;
        stream.set_nodelay(true)?;
        let Some(tls) = &self.tls else { return Ok(Box::new(stream)) };
        let name =
            ServerName::try_from(self.host.clone()).map_err(|_| anyhow!("{} is no name of a server", self.host))?;
        let stream = TlsConnector::from(Arc::clone(tls)).connect(name, stream).await;
        Ok(Box::new(stream.map_err(|why| anyhow!("no connection by TLS: {}", told(&why)))?))
    }
}

/// What is wrong with a certificate, or the error itself.
fn told(why: &io::Error) -> String {
    why.get_ref().map_or_else(|| why.to_string(), ToString::to_string)
}

/// Certificates that a server's may come from: those in the text (PEM), or the system's.
///
/// # Errors
/// If they cannot be read.
pub(crate) fn roots(trust: Option<&str>) -> Result<RootCertStore> {
    use rustls::pki_types::CertificateDer;
    use rustls::pki_types::pem::PemObject as _;

    let mut roots = RootCertStore::empty();
    match trust {
        Some(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                roots.add(certificate.map_err(|why| anyhow!("{why}"))?)?;
            }
        }
        None => {
            let (_, _) = roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    if roots.is_empty() {
        return Err(anyhow!("there is no certificate in it"));
    }
    Ok(roots)
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    use tokio::net::{TcpListener, UnixStream};

    use super::*;

    async fn server(allowed: &[&str]) -> (TcpListener, Server) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let allowed = allowed.iter().map(ToString::to_string).collect();
        (listener, Server { host: "127.0.0.1".into(), port, tls: None, allowed })
    }

    #[tokio::test]
    async fn what_is_written_is_passed_on_both_ways() {
        let (listener, server) = server(&["127.0.0.1"]).await;
        let passage = Passage::open(&server, "line").await.unwrap();
        let (mut theirs, _) = listener.accept().await.unwrap();
        let mut ours = UnixStream::connect(&passage.socket).await.unwrap();
        ours.write_all(b"tide").await.unwrap();
        let mut four = [0; 4];
        theirs.read_exact(&mut four).await.unwrap();
        assert_eq!(&four, b"tide");
        theirs.write_all(b"ebbs").await.unwrap();
        ours.read_exact(&mut four).await.unwrap();
        assert_eq!(&four, b"ebbs");
        let socket = passage.socket.clone();
        drop(passage);
        assert!(!socket.exists());
        assert_eq!(theirs.read(&mut four).await.unwrap_or(0), 0, "the connection ends with the passage");
    }

    #[tokio::test]
    async fn nothing_inside_is_reached_unless_it_is_allowed() {
        let (_listener, server) = server(&[]).await;
        let Err(why) = Passage::open(&server, "line").await else { panic!() };
        assert!(why.to_string().contains("--outlet-hosts"), "{why}");
    }

    #[test]
    fn certificates_are_read_or_refused() {
        assert!(roots(Some("nothing")).is_err());
        let signed = rcgen::generate_simple_self_signed(vec!["quay.example".into()]).unwrap();
        assert_eq!(roots(Some(&signed.cert.pem())).unwrap().len(), 1);
    }
}
