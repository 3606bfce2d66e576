//! The gateway's side of the WebSocket LNS protocol and of CUPS, over real sockets.

use std::time::Duration;

use futures::{SinkExt as _, StreamExt as _};
use gateway_link::cups::{self, Question, Update};
use gateway_link::lns::{Answer, DISCOVERY_PATH, FromGateway, PROTOCOL, Query, RouterConfig, ToGateway, Version};
use lorawan::Eui64;
use reqwest::Url;
use rustls::pki_types::ServerName;
use thiserror::Error;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::tungstenite::http::{HeaderValue, header};
use tokio_tungstenite::tungstenite::{self, Message};

use agent::kit::{Entrance, Kit, KitError};

/// The service answers in this time, or not at all.
const PATIENCE: Duration = Duration::from_secs(20);

/// Why a gateway is not connected.
#[derive(Debug, Error)]
pub enum LinkError {
    /// The kit cannot be used.
    #[error(transparent)]
    Kit(#[from] KitError),
    /// An address cannot be read.
    #[error("the address {0:?} is not one that can be called")]
    Address(String),
    /// The network failed.
    #[error("nobody answers: {0}")]
    Network(#[from] std::io::Error),
    /// The connection failed.
    #[error("the WebSocket: {0}")]
    WebSocket(Box<tungstenite::Error>),
    /// The service refused the gateway.
    #[error("the service says no: {0}")]
    Refused(String),
    /// The service said something else than it should.
    #[error("the service said something unexpected: {0}")]
    Unexpected(String),
    /// The service took too long.
    #[error("the service took longer than {} s", PATIENCE.as_secs())]
    TooLong,
    /// The update service failed.
    #[error("CUPS: {0}")]
    Cups(#[from] reqwest::Error),
}

impl From<tungstenite::Error> for LinkError {
    fn from(error: tungstenite::Error) -> Self {
        match error {
            // What is refused comes with the reason.
            tungstenite::Error::Http(answer) => {
                let body = answer.body().as_deref().unwrap_or_default();
                Self::Refused(format!("{}: {}", answer.status(), String::from_utf8_lossy(body)))
            }
            other => Self::WebSocket(Box::new(other)),
        }
    }
}

type Socket = WebSocketStream<TlsStream<TcpStream>>;

async fn open(entrance: &Entrance, uri: &str) -> Result<Socket, LinkError> {
    let unusable = || LinkError::Address(uri.to_owned());
    let url = Url::parse(uri).map_err(|_| unusable())?;
    let (host, port) = (url.host_str().ok_or_else(unusable)?, url.port().unwrap_or(443));
    // An IPv6 address stands in brackets in an address.
    let host = host.trim_matches(['[', ']']).to_owned();
    let stream = TcpStream::connect((host.as_str(), port)).await?;
    let name = ServerName::try_from(host).map_err(|_| unusable())?;
    let stream = TlsConnector::from(entrance.tls()?).connect(name, stream).await?;
    let mut request = uri.into_client_request()?;
    if let Some(value) = entrance.header().and_then(|value| HeaderValue::from_str(value).ok()) {
        request.headers_mut().insert(header::AUTHORIZATION, value);
    }
    Ok(tokio_tungstenite::client_async(request, stream).await?.0)
}

async fn text(socket: &mut Socket) -> Result<String, LinkError> {
    loop {
        match socket.next().await {
            Some(Ok(Message::Text(text))) => return Ok(text.to_string()),
            Some(Ok(Message::Close(Some(frame)))) => return Err(LinkError::Refused(frame.reason.to_string())),
            Some(Ok(Message::Close(None))) | None => return Err(LinkError::Unexpected("it hung up".into())),
            Some(Ok(_)) => {}
            Some(Err(error)) => return Err(error.into()),
        }
    }
}

/// Asks where to connect.
pub async fn discover(entrance: &Entrance, eui: Eui64) -> Result<Answer, LinkError> {
    let asked = async {
        let mut socket = open(entrance, &format!("{}{DISCOVERY_PATH}", entrance.uri.trim_end_matches('/'))).await?;
        socket.send(Message::text(Query { gateway: eui }.emit())).await?;
        let answer = text(&mut socket).await?;
        let _ = socket.close(None).await;
        Answer::parse(&answer).map_err(|why| LinkError::Unexpected(why.to_string()))
    };
    tokio::time::timeout(PATIENCE, asked).await.map_err(|_| LinkError::TooLong)?
}

/// A gateway's connection.
pub struct Connection {
    socket: Socket,
    /// The channel plan it was given.
    pub config: RouterConfig,
}

impl Connection {
    /// Asks where to connect, connects, and is given the channel plan.
    pub async fn open(entrance: &Entrance, eui: Eui64) -> Result<Self, LinkError> {
        Self::open_as(entrance, eui, version()).await
    }

    /// The same, introducing itself in other words.
    pub async fn open_as(entrance: &Entrance, eui: Eui64, version: Version) -> Result<Self, LinkError> {
        let opened = async { Self::upgrade(entrance, eui).await?.introduce(version).await };
        tokio::time::timeout(PATIENCE, opened).await.map_err(|_| LinkError::TooLong)?
    }

    /// Asks where to connect, and connects, without a word.
    pub async fn upgrade(entrance: &Entrance, eui: Eui64) -> Result<Silent, LinkError> {
        let answer = discover(entrance, eui).await?;
        match (answer.uri, answer.error) {
            (Some(uri), None) => Ok(Silent(open(entrance, &uri).await?)),
            (_, why) => Err(LinkError::Refused(why.unwrap_or_else(|| "it says nowhere to go".into()))),
        }
    }

    /// Sends a message to the service.
    ///
    /// # Errors
    /// If the connection has ended.
    pub async fn send(&mut self, message: &FromGateway) -> Result<(), LinkError> {
        self.send_text(message.emit()).await
    }

    /// Sends any text.
    pub async fn send_text(&mut self, text: String) -> Result<(), LinkError> {
        Ok(self.socket.send(Message::text(text)).await?)
    }

    /// The service's next message; pings are answered meanwhile.
    pub async fn next(&mut self) -> Result<ToGateway, LinkError> {
        let text = text(&mut self.socket).await?;
        ToGateway::parse(&text).map_err(|why| LinkError::Unexpected(why.to_string()))
    }
}

/// A connection whose gateway has not said what it is.
pub struct Silent(Socket);

impl Silent {
    /// Says what it is, and is given the channel plan.
    pub async fn introduce(self, version: Version) -> Result<Connection, LinkError> {
        let mut socket = self.0;
        socket.send(Message::text(FromGateway::Version(version).emit())).await?;
        let first = text(&mut socket).await?;
        match ToGateway::parse(&first) {
            Ok(ToGateway::Config(config)) => Ok(Connection { socket, config: *config }),
            other => Err(LinkError::Unexpected(format!("{other:?}"))),
        }
    }
}

/// As stand-ins introduce themselves.
pub fn version() -> Version {
    Version {
        station: concat!("stand-in ", env!("CARGO_PKG_VERSION")).into(),
        firmware: String::new(),
        package: String::new(),
        model: "stand-in".into(),
        protocol: PROTOCOL,
        features: "".into(),
    }
}

/// Asks over CUPS what is new.
pub async fn ask(entrance: &Entrance, question: &Question) -> Result<Update, LinkError> {
    let config = entrance.tls()?.as_ref().clone();
    let client = reqwest::Client::builder().tls_backend_preconfigured(config).timeout(PATIENCE).build()?;
    let mut request =
        client.post(format!("{}{}", entrance.uri.trim_end_matches('/'), cups::PATH)).body(question.emit());
    if let Some(value) = entrance.header() {
        request = request.header(reqwest::header::AUTHORIZATION, value);
    }
    let answer = request.send().await?;
    let status = answer.status();
    let bytes = answer.bytes().await?;
    if !status.is_success() {
        return Err(LinkError::Refused(format!("{status}: {}", String::from_utf8_lossy(&bytes))));
    }
    Update::parse(&bytes).map_err(|why| LinkError::Unexpected(why.to_string()))
}

/// The entrance for traffic that a kit opens, fetched over CUPS if it only opens that for updates.
pub async fn entrance(kit: &Kit, eui: Eui64) -> Result<Entrance, LinkError> {
    if let Some(tc) = kit.entrance("tc")? {
        return Ok(tc);
    }
    let cups = kit.entrance("cups")?.ok_or_else(|| LinkError::Unexpected("the kit opens no entrance".into()))?;
    let update = ask(&cups, &question(eui, &cups, None)).await?;
    let (Some(uri), Some(credentials)) = (update.tc_uri, update.tc) else {
        return Err(LinkError::Unexpected("over CUPS came no credentials for traffic".into()));
    };
    Ok(Entrance::fetched(uri, &credentials)?)
}

/// What a gateway reports over CUPS, with these credentials for updates and for traffic.
pub fn question(eui: Eui64, cups: &Entrance, tc: Option<&Entrance>) -> Question {
    Question {
        gateway: eui,
        cups_uri: cups.uri.clone(),
        tc_uri: tc.map(|tc| tc.uri.clone()).unwrap_or_default(),
        cups_crc: cups.credentials().crc(),
        tc_crc: tc.map_or(0, |tc| tc.credentials().crc()),
        station: version().station,
        model: version().model,
        package: version().package,
        keys: Vec::new(),
    }
}
