//! Who calls and what they may do: signing in, sessions, tokens, rights, rate limits of accounts, the audit record.
//! The table of rights itself is `domain::access`.

pub(crate) mod access;
pub(crate) mod account;
pub(crate) mod audit_context;
pub(crate) mod authenticate;
pub(crate) mod authorize;
pub(crate) mod context;
pub(crate) mod endpoint;
pub(crate) mod limits;
pub(crate) mod presented;
pub(crate) mod recent;
pub(crate) mod refusals;
pub(crate) mod secret;
pub(crate) mod sign_in;
pub(crate) mod tokens;
pub(crate) mod two_step;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(sign_in::sign_in))
        .routes(routes!(sign_in::sign_out))
        .routes(routes!(sign_in::open_invitation))
        .routes(routes!(sign_in::take_invitation))
        .routes(routes!(account::me))
        .routes(routes!(account::list_sign_ins, account::end_other_sign_ins))
        .routes(routes!(account::end_sign_in))
        .routes(routes!(account::set_password))
        .routes(routes!(account::prepare_two_step, account::begin_two_step))
        .routes(routes!(account::renew_recovery_codes))
        .routes(routes!(account::end_two_step))
        .routes(routes!(account::remove_account))
        .routes(routes!(tokens::list_tokens, tokens::add_token))
        .routes(routes!(tokens::show_token, tokens::revoke_token))
}
