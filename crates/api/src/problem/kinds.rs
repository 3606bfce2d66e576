//! Every kind of problem: its code, what it means, and what to do.

/// A kind of problem.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProblemKind {
    /// Its stable code.
    pub code: &'static str,
    /// The HTTP status it comes with.
    pub status: u16,
    /// What it means.
    pub means: &'static str,
    /// What to do.
    pub step: &'static str,
}

const fn kind(code: &'static str, status: u16, means: &'static str, step: &'static str) -> ProblemKind {
    ProblemKind { code, status, means, step }
}

/// The address of the page with all kinds; each has its code as the anchor.
pub const PAGE: &str = "/api/problems";

/// All kinds, by code.
pub const KINDS: &[ProblemKind] = &[
    kind("bad", 422, "A row of a file cannot be used.", "Mend the row that is named."),
    kind("bad_archive", 422, "The archive cannot be read.", "Send a zip, tar or gzipped tar of a folder with models."),
    kind("bad_decoder", 422, "The decoder does not load.", "Mend the line that is named."),
    kind(
        "bad_field",
        422,
        "Values cannot be used, are missing, or belong to no known field.",
        "`fields` names each, with what is allowed.",
    ),
    kind("bad_file", 422, "The file cannot be read.", "Mend what is named; nothing of it was used."),
    kind(
        "bad_json",
        400,
        "The body is not the JSON expected here.",
        "Compare it with the description of the operation.",
    ),
    kind("bad_label", 422, "The text is no code of a device's label (TR005).", "Scan it again, or enter the EUIs."),
    kind("bad_model_file", 422, "A file of a model cannot be used.", "Mend the line that is named."),
    kind("bad_photo", 422, "The picture cannot be read.", "Send a JPEG, PNG or WebP."),
    kind("bad_query", 400, "The query cannot be read.", "Compare it with the description of the operation."),
    kind("bad_repository", 422, "The git repository cannot be read.", "Check its address, and the branch."),
    kind("beyond", 403, "It goes beyond the part that is shared.", "Ask its owner to share more."),
    kind("broken_off", 400, "The body did not come as a whole, or not in time.", "Send the request again."),
    kind(
        "changed_meanwhile",
        412,
        "Somebody else changed it meanwhile.",
        "Look at it again, then change what is left.",
    ),
    kind("code_wanted", 401, "Two-step sign-in wants a code as well.", "Send the six digits of the app as `code`."),
    kind("ended", 409, "It has ended already.", "Nothing needs to be done."),
    kind("exists", 409, "There is one already.", "Choose another name or EUI, or change the one that is there."),
    kind("failed", 500, "A script or a job failed.", "Read the reason that is given."),
    kind("gone", 409, "Something it refers to was removed meanwhile.", "Look at the list again."),
    kind("in_use", 409, "It is still used by something else.", "Move or remove what uses it first."),
    kind("internal", 500, "Something went wrong in the service.", "Read the service's log, and tell the operator."),
    kind("last_owner", 409, "An estate keeps an owner.", "Make somebody else an owner first."),
    kind("method_not_allowed", 405, "This cannot be done there.", "Compare method and path with the description."),
    kind("no_broker", 409, "The service has no MQTT broker.", "Start it with `--mqtt`."),
    kind("no_code", 422, "No code was found in the picture.", "Take it again from nearer, or enter the EUIs."),
    kind("no_git", 503, "git is not installed beside the service.", "Install it, or send the files."),
    kind("no_invitation", 404, "There is no such invitation any more.", "Ask for another."),
    kind("no_models", 422, "The folder has no models.", "Send a folder that has a folder `models`."),
    kind("no_revision", 412, "It has no revision that could be compared.", "Leave `If-Match` out."),
    kind("no_session", 409, "The device has no session.", "Wait until it has joined."),
    kind("no_updates", 409, "The gateway does not ask for updates.", "Make it a kit with updates."),
    kind("not_a_label", 422, "The codes in the picture are none of a device.", "Photograph the device's own label."),
    kind("not_allowed", 403, "The account or token has no right to it.", "Ask an owner of the estate for the right."),
    kind("not_by_token", 403, "An access token cannot do this.", "Sign in with name and password."),
    kind("not_found", 404, "There is nothing of that name.", "Look at the list."),
    kind("not_in_use", 409, "It is not in use.", "Begin it first."),
    kind("not_json", 415, "The content type must be application/json.", "Send the header `Content-Type`."),
    kind("not_kept", 500, "A file could not be written.", "Read the service's log: its disk may be full."),
    kind("not_made", 500, "A certificate could not be made.", "Read the service's log."),
    kind("not_prepared", 409, "Two-step sign-in was not begun.", "Ask for a secret first."),
    kind("not_ready", 409, "It is not ready to be looked at yet.", "Ask again in a moment."),
    kind("not_waiting", 409, "The downlink no longer waits.", "Look at the outbox for what became of it."),
    kind("other_host", 421, "The service does not answer to that name.", "Add the name with `--http-names`."),
    kind("other_site", 403, "Another site asked for it.", "Do it from the console, or with a token."),
    kind("outbox_full", 409, "The outbox is full.", "Cancel some downlinks, or wait."),
    kind("paused", 409, "The outlet is paused.", "Resume it first."),
    kind("request_begun", 409, "The same request was begun before.", "Ask again; then look whether it was done."),
    kind("retained", 422, "A command that the broker keeps is not obeyed.", "Publish it without retain."),
    kind("sign_in", 401, "No valid token came with the request.", "Sign in, and send the token."),
    kind(
        "there_already",
        412,
        "Something new was wanted, and there is one of that name.",
        "Choose another name, or leave `If-None-Match` out to change it.",
    ),
    kind("too_large", 413, "The body is too large.", "Send less at once."),
    kind("too_many", 409, "There are as many as are kept.", "Remove some that are not used."),
    kind("too_many_keys", 429, "Too many requests came with an Idempotency-Key.", "Wait, or leave the key out."),
    kind(
        "too_many_open",
        429,
        "The account has as many connections, live streams or exports as it may.",
        "End some that are not needed.",
    ),
    kind("too_often", 429, "Too many requests.", "Wait as long as `Retry-After` says."),
    kind("unavailable", 503, "The database is not available.", "Try again shortly."),
    kind("unreadable", 500, "A stored record cannot be read.", "Read the service's log."),
    kind("wrong_code", 401, "The code is wrong, or was used already.", "Wait for the next one."),
    kind("wrong_sign_in", 401, "Name or password is wrong.", "Try again, or have the password reset."),
];

/// The page of all kinds, as Markdown: `docs/problems.md`.
pub fn markdown() -> String {
    let mut page = String::from(
        "# Problems\n\nWhat cannot be done is answered with a problem (RFC 9457): `title` and `detail` are for people, `code` is\n\
         for programs and stays, `fields` names every field that is wrong, and `type` leads here. This page is made by\n\
         `herond problems > docs/problems.md`.\n\n| code | status | means | what to do |\n|---|---|---|---|\n",
    );
    for ProblemKind { code, status, means, step } in KINDS {
        page.push_str(&format!("| `{code}` | {status} | {means} | {step} |\n"));
    }
    page
}
