//! Names, passwords, invitations: ways to come in that are none, or were closed.

use e2e::service::{ESTATE, Service};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

async fn sign_in(service: &Service, name: &str, password: &str) -> (u16, Value) {
    let body = json!({ "name": name, "password": password });
    let (status, answer) = service.by("", Method::POST, "/sign-in", Some(body)).await;
    (status.as_u16(), answer)
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_is_guessed_at_as_one_however_its_name_is_typed() {
    let service = Service::first_start().await;
    let _ = service.invited(json!({ "role": "viewer" }), "vie").await;
    let password = "vie reed lantern ocean";
    // In capitals and in other forms of the same letters it is the same account.
    for same in ["vie", " VIE ", "\u{ff56}ie"] {
        assert_eq!(sign_in(&service, same, password).await.0, 200, "{same:?}");
    }
    // With accents or with what cannot be seen it is none.
    for other in ["viè", "vie\u{300}", "vie\u{200b}", "v\u{ad}ie", "vi\u{435}"] {
        assert_eq!(sign_in(&service, other, password).await.0, 401, "{other:?}");
    }
    let forms = ["vie", "VIE", "Vie", "vIe", "viE", "VIe", "\u{ff56}ie", "v\u{ff49}e", " vie", "vie "];
    let mut answers = Vec::new();
    for n in 0..24 {
        answers.push(sign_in(&service, forms[n % forms.len()], &format!("guess {n} of many")).await.0);
    }
    let wrong = answers.iter().filter(|status| **status == 401).count();
    assert!(wrong <= 12, "all forms together have as many attempts as one: {answers:?}");
    assert_eq!(answers.last(), Some(&429));
    // A new account cannot look like an old one.
    for name in ["vie\u{200b}", "\u{202e}eiv", "VIE", "\u{ff56}ie"] {
        let written: Value =
            service.post("invitations", json!({ "for_whom": "x", "offer": { "role": "viewer" } })).await;
        let account =
            json!({ "code": written["code"], "account": { "name": name, "password": "reed bed lantern ocean" } });
        let (status, problem) = service.by("", Method::POST, "/invitations/take", Some(account)).await;
        assert!(status == 409 || status == 422, "{name:?}: {status} {problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_ends_with_the_rights_of_who_wrote_it() {
    let service = Service::first_start().await;
    let invite = async |by: &str, role: &str| {
        let new = json!({ "for_whom": "myself, later", "offer": { "role": role } });
        let (status, written) =
            service.by(by, Method::POST, &format!("/estates/{ESTATE}/invitations"), Some(new)).await;
        assert_eq!(status, StatusCode::CREATED, "{written}");
        written["code"].clone()
    };
    let take = async |code: &Value, name: &str| {
        let account = json!({ "code": code, "account": { "name": name, "password": "reed bed lantern ocean" } });
        service.by("", Method::POST, "/invitations/take", Some(account)).await.0.as_u16()
    };
    let (second, third) = (
        service.invited(json!({ "role": "owner" }), "second").await,
        service.invited(json!({ "role": "owner" }), "third").await,
    );
    let (by_second, by_third) = (invite(&second, "owner").await, invite(&third, "viewer").await);
    let by_owner = invite(service.token(), "viewer").await;
    let demote = json!({ "role": "engineer" });
    let _: Value = service.done(Method::PATCH, &format!("/estates/{ESTATE}/people/second"), Some(demote)).await;
    assert_eq!(service.call(Method::DELETE, &format!("/estates/{ESTATE}/people/third"), None).await.0, 204);
    assert_eq!(take(&by_second, "back-again").await, 404);
    assert_eq!(take(&by_third, "back-too").await, 404);
    assert_eq!(take(&by_owner, "guest").await, 200, "that of the owner is as good as before");
    let open: Value = service.get("invitations").await;
    assert_eq!(open["items"], json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stolen_sign_in_does_not_help_to_guess_and_tokens_end_with_the_password() {
    let service = Service::first_start().await;
    let put = async |current: &str| {
        let body = json!({ "current": current, "new": "reed bed lantern ocean", "keep_tokens": false });
        service.call(Method::PUT, "/me/password", Some(body)).await
    };
    let guesses = [0; 15].map(|_| "not this one either");
    let mut statuses = Vec::new();
    for guess in guesses {
        statuses.push(put(guess).await.0.as_u16());
    }
    assert_eq!(statuses.iter().filter(|status| **status == 422).count(), 10, "{statuses:?}");
    assert_eq!(statuses.last(), Some(&429));
    // By the operator on the machine: all sign-ins and tokens end, and it says so.
    let token = json!({ "name": "board", "rights": ["view"], "scope": "estate" });
    let (secret, _) = service.token_of(service.token(), token).await;
    let database = service.database();
    let said = service.herond_says(&["reset-password", "owner", "--database", &database]);
    assert!(said.contains("1 access tokens ended"), "{said}");
    assert_eq!(service.by(&secret, Method::GET, "/me", None).await.0, StatusCode::UNAUTHORIZED);
}
