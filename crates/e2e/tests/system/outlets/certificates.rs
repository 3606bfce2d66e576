//! A web server that speaks TLS, and wants to see a certificate.

use std::sync::{Arc, Mutex};

use api::outlet::{Delivery, Outlet, OutletState};
use e2e::authority::TestAuthority;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;

use super::{becomes, bench};

fn chain(pem: &str) -> Vec<CertificateDer<'static>> {
    CertificateDer::pem_slice_iter(pem.as_bytes()).collect::<Result<_, _>>().unwrap()
}

/// A server with a certificate for localhost that lets in only whom the authority knows; its port, and who came.
async fn server(authority: &TestAuthority) -> (u16, Arc<Mutex<Vec<Vec<u8>>>>) {
    let mut roots = RootCertStore::empty();
    chain(&authority.pem()).into_iter().for_each(|root| roots.add(root).unwrap());
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider)).build().unwrap();
    let (certificate, key) = authority.issue("localhost");
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_client_cert_verifier(verifier)
        .with_single_cert(chain(&certificate), PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap())
        .unwrap();
    let (acceptor, listener) = (TlsAcceptor::from(Arc::new(config)), TcpListener::bind("127.0.0.1:0").await.unwrap());
    let (port, shown) = (listener.local_addr().unwrap().port(), Arc::new(Mutex::new(Vec::new())));
    let into = Arc::clone(&shown);
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let Ok(mut stream) = acceptor.accept(stream).await else { continue };
            let certificate = stream.get_ref().1.peer_certificates().unwrap()[0].to_vec();
            let mut request = vec![0; 65_536];
            let Ok(1..) = stream.read(&mut request).await else { continue };
            into.lock().unwrap().push(certificate);
            let answer = "HTTP/1.1 204 No Content\r\nconnection: close\r\n\r\n";
            let _ = stream.write_all(answer.as_bytes()).await;
            let _ = stream.shutdown().await;
        }
    });
    (port, shown)
}

#[tokio::test]
async fn both_sides_are_known_by_their_certificates() {
    let (mut bench, authority) = (bench().await, TestAuthority::new());
    let (port, shown) = server(&authority).await;
    let (certificate, key) = authority.issue("keen-heron");
    let add = async |slug: &str, more: Value, secrets: Value| -> Outlet {
        let mut webhook = json!({ "url": format!("https://localhost:{port}/in") });
        webhook.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let new = json!({ "slug": slug, "types": ["uplink"], "to": { "webhook": webhook }, "secrets": secrets });
        bench.service.post("outlets", new).await
    };
    let whole = json!({ "trust": authority.pem(), "certificate": certificate });
    add("harbour", json!({ "trust": TestAuthority::new().pem() }), json!({})).await;
    add("unknown", json!({ "trust": authority.pem() }), json!({})).await;
    let made = add("known", whole, json!({ "key": key })).await;
    assert_eq!(made.secrets_set, ["key"]);
    bench.uplink(&[1], false).await;
    // The server's certificate is of another authority than the one that is trusted.
    let failing = becomes(&bench.service, OutletState::Failing).await;
    assert!(failing.status.why.as_ref().is_some_and(|why| why.contains("certificate")), "{failing:?}");
    e2e::wait::until("the one that is known", async || {
        let outlet: Outlet = bench.service.get("outlets/known").await;
        (outlet.status.delivered == 1).then_some(())
    })
    .await;
    assert_eq!(shown.lock().unwrap()[0], chain(&certificate)[0].to_vec());
    let deliveries: Vec<Delivery> = bench.service.list("outlets/unknown/deliveries").await;
    assert!(!deliveries.is_empty() && deliveries.iter().all(|one| !one.delivered), "{deliveries:?}");
    let all: Vec<Outlet> = bench.service.list("outlets").await;
    let text = serde_json::to_string(&all).unwrap();
    assert!(!text.contains("PRIVATE KEY"), "the key is not shown");
}
