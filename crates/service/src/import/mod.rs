//! What people upload: archives, git repositories, photos of labels.
//! What is in them is read by `domain`.

pub mod archive;
pub mod git;
pub mod labels;
