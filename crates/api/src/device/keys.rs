//! A device's keys in the forms people need.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One credential in one form.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyForm {
    /// The credential, by the standard's name.
    pub field: String,
    /// The form: `hex` or `c_array`.
    pub form: String,
    /// `msb_first` as on labels, `lsb_first` as on air.
    pub order: String,
    /// The text.
    pub text: String,
}
