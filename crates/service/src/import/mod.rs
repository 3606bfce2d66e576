//! What people upload: archives, git repositories, photos of labels.
//! What is in them is read by `domain`.

pub(crate) mod archive;
pub(crate) mod git;
pub(crate) mod labels;
