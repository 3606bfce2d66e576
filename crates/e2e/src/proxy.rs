//! A TCP proxy in front of a server, which can fall silent: connections stay open, and nothing comes through.

use std::net::SocketAddr;
use std::sync::Arc;

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// A proxy on loopback.
pub struct Proxy {
    /// Where it listens.
    pub address: SocketAddr,
    /// How often it was silenced: connections from before that stay silent.
    silenced: Arc<watch::Sender<u64>>,
}

impl Proxy {
    /// In front of a port of this machine.
    ///
    /// # Panics
    /// If no port is free.
    pub async fn before(port: u16) -> Self {
        Self::at(([127, 0, 0, 1], 0).into(), port).await
    }

    /// The same, listening at this address.
    ///
    /// # Panics
    /// If it is taken.
    pub async fn at(address: SocketAddr, port: u16) -> Self {
        let listener = TcpListener::bind(address).await.expect("a free port");
        let address = listener.local_addr().expect("bound");
        let silenced = Arc::new(watch::Sender::new(0));
        let told = Arc::clone(&silenced);
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let Ok(server) = TcpStream::connect(("127.0.0.1", port)).await else { continue };
                let (client_in, client_out) = client.into_split();
                let (server_in, server_out) = server.into_split();
                tokio::spawn(carry(client_in, server_out, told.subscribe()));
                tokio::spawn(carry(server_in, client_out, told.subscribe()));
            }
        });
        Self { address, silenced }
    }

    /// Nothing comes through on the connections that there are; new ones work.
    pub fn silence(&self) {
        self.silenced.send_modify(|times| *times += 1);
    }
}

async fn carry(
    mut from: tokio::net::tcp::OwnedReadHalf,
    mut to: tokio::net::tcp::OwnedWriteHalf,
    mut silenced: watch::Receiver<u64>,
) {
    let mut buffer = vec![0; 16 * 1024];
    silenced.mark_unchanged();
    loop {
        let read = tokio::select! {
            biased;
            _ = silenced.changed() => {
                // Open, and silent.
                std::future::pending::<()>().await;
                return;
            }
            read = from.read(&mut buffer) => read,
        };
        match read {
            Ok(n) if n > 0 && to.write_all(&buffer[..n]).await.is_ok() => {}
            _ => return,
        }
    }
}
