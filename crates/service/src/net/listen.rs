//! Accepts connections, with or without TLS, within limits.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Router;
use hyper::server::conn::http1;
use hyper::service::{Service as _, service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tower_http::add_extension::AddExtension;

use crate::gateways::credentials::Peer;
use crate::ingest::stats::IngestStats;
use crate::net::few::{Few, One};
use crate::net::room::{Limits, Room};
use crate::net::source::one_source;

/// Handshakes of one source at once. Many gateways may be behind one.
const HANDSHAKES: usize = 64;
/// The time for requests in progress when the service stops.
const FAREWELL: Duration = Duration::from_secs(2);

/// How connections are accepted on one port.
#[derive(Clone)]
pub(crate) struct Port {
    /// With TLS, if it is given.
    pub tls: Option<TlsAcceptor>,
    /// The time limit of a handshake, and of each request's header.
    pub patience: Duration,
    /// Connections at once.
    pub limits: Limits,
    pub router: Router,
    pub ingest: Arc<IngestStats>,
}

impl Port {
    /// Accepts connections until the service stops, and waits for them to end.
    pub(crate) async fn serve(self, listener: TcpListener, stopping: CancellationToken) {
        let room = Room::new(self.limits);
        let handshakes = Few::new(HANDSHAKES);
        let conversations = TaskTracker::new();
        loop {
            let accepted = tokio::select! {
                accepted = listener.accept() => accepted,
                () = stopping.cancelled() => break,
            };
            let (stream, address) = match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // No file descriptor is left, say: others may end meanwhile.
                    tracing::warn!("a connection could not be taken: {error}");
                    tokio::time::sleep(Duration::from_millis(100)).await;
                    continue;
                }
            };
            let seat = match room.enter(address.ip(), Instant::now()) {
                Ok(seat) => Arc::new(seat),
                Err(why) => {
                    self.ingest.dropped("too_many_connections", why.into(), address);
                    continue;
                }
            };
            // Without TLS there is no handshake: the first header has a time limit of its own.
            let handshake = match self.tls.as_ref().map(|_| handshakes.begin(one_source(address.ip()))) {
                Some(None) => {
                    self.ingest.dropped("too_many_handshakes", "one address has too many under way".into(), address);
                    continue;
                }
                begun => begun.flatten(),
            };
            let peer = Peer { address, certificate: None, seat };
            let (port, stopping) = (self.clone(), stopping.clone());
            conversations.spawn(async move {
                let ingest = Arc::clone(&port.ingest);
                if let Err(why) = port.converse(stream, peer, (handshake, stopping)).await {
                    ingest.dropped("tls", why, address);
                }
            });
        }
        conversations.close();
        conversations.wait().await;
    }

    /// One connection, until it ends or is upgraded.
    async fn converse(
        self,
        stream: TcpStream,
        mut peer: Peer,
        (handshake, stopping): (Option<One<IpAddr>>, CancellationToken),
    ) -> Result<(), String> {
        // Downlinks are small and urgent.
        let _ = stream.set_nodelay(true);
        let Some(acceptor) = &self.tls else {
            self.talk(stream, peer, stopping).await;
            return Ok(());
        };
        let shaken = tokio::select! {
            shaken = tokio::time::timeout(self.patience, acceptor.accept(stream)) => shaken,
            () = peer.seat.has_to_leave() => return Err("it said nothing while others wanted to connect".into()),
        };
        let stream = match shaken {
            Ok(Ok(stream)) => stream,
            Ok(Err(error)) => return Err(format!("the handshake failed: {error}")),
            Err(_) => return Err(format!("no handshake within {} s", self.patience.as_secs())),
        };
        drop(handshake);
        let shown = stream.get_ref().1.peer_certificates().and_then(|chain| chain.first());
        peer.certificate = shown.map(|certificate| certificate.to_vec());
        self.talk(stream, peer, stopping).await;
        Ok(())
    }

    async fn talk(
        self,
        stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
        peer: Peer,
        stopping: CancellationToken,
    ) {
        let (seat, address) = (Arc::clone(&peer.seat), peer.address);
        let router = self.router.into_service::<hyper::body::Incoming>();
        let answers = TowerToHyperService::new(AddExtension::new(router, peer));
        let asked = Arc::clone(&seat);
        let service = service_fn(move |request| {
            let (seat, answer) = (Arc::clone(&asked), answers.call(request));
            seat.asks(true, Instant::now());
            async move {
                let answer = answer.await;
                seat.asks(false, Instant::now());
                answer
            }
        });
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(self.patience)
            .serve_connection(TokioIo::new(stream), service)
            .with_upgrades();
        tokio::pin!(connection);
        tokio::select! {
            // A client that hangs up during a request is no news.
            _ = connection.as_mut() => {}
            () = seat.has_to_leave() => {
                self.ingest.dropped("left_for_others", "it said nothing while others wanted to connect".into(), address);
            }
            () = stopping.cancelled() => {
                connection.as_mut().graceful_shutdown();
                let _ = tokio::time::timeout(FAREWELL, connection).await;
            }
        }
    }
}
