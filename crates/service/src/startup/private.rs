//! The data folder is this account's alone: it holds keys, and frames that were heard.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use anyhow::{Context as _, Result};
use rustix::fs::Mode;

/// Folders below the data folder that are looked at; the service makes no deeper ones.
const DEEPEST: usize = 3;

/// Makes the data folder if need be, and takes it and all that is in it from everybody else. What this process makes from now on is
/// its own as well.
///
/// # Errors
/// The folder cannot be made, or is somebody else's.
pub(crate) fn make_private(data: &Path) -> Result<()> {
    rustix::process::umask(Mode::RWXG | Mode::RWXO);
    fs::create_dir_all(data).with_context(|| format!("making the data folder {}", data.display()))?;
    tighten(data, DEEPEST).with_context(|| format!("taking the data folder {} from others", data.display()))
}

fn tighten(path: &Path, deeper: usize) -> std::io::Result<()> {
    let about = fs::symlink_metadata(path)?;
    if about.is_symlink() {
        return Ok(());
    }
    let mode = about.permissions().mode();
    if mode & 0o077 != 0 {
        fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o700))?;
    }
    if about.is_dir() && deeper > 0 {
        for entry in fs::read_dir(path)? {
            match tighten(&entry?.path(), deeper - 1) {
                // Another process may have removed it.
                Err(why) if why.kind() == std::io::ErrorKind::NotFound => {}
                done => done?,
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_open_to_others_is_taken_from_them() {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        fs::create_dir_all(data.join("journal")).unwrap();
        let (file, link) = (data.join("journal/1.heard"), data.join("elsewhere"));
        fs::write(&file, b"frames").unwrap();
        fs::write(folder.path().join("theirs"), b"x").unwrap();
        std::os::unix::fs::symlink(folder.path().join("theirs"), &link).unwrap();
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        let open = |path: &Path, mode: u32| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        open(&data, 0o755);
        open(&file, 0o644);
        open(&folder.path().join("theirs"), 0o644);
        tighten(&data, DEEPEST).unwrap();
        assert_eq!((mode(&data), mode(&file)), (0o700, 0o600));
        assert_eq!(mode(&folder.path().join("theirs")), 0o644, "what a link leads to is not the service's");
    }
}
