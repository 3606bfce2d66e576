//! Request, response and message types shared by service, client and docs.
