//! Frames of devices that are not served for now, because what has to be stored for them is refused. They are kept in a
//! file for each device, and handed in again at the next start.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use engine::FrameHeard;
use lorawan::Eui64;

use crate::ingest::journal::record;

/// Bytes kept for one device.
const EACH_BYTES: u64 = 4 << 20;
/// Devices with frames kept, at most.
const DEVICES: usize = 256;

/// The folder with these files.
pub(crate) struct QuarantinedFrames(PathBuf);

impl QuarantinedFrames {
    /// Beside the journal's segments.
    pub(crate) fn beside(journal: &Path) -> Self {
        Self(journal.join("quarantine"))
    }

    /// Keeps frames of a device; an error says why they were not kept.
    pub(crate) fn put(&self, dev_eui: Eui64, frames: &[FrameHeard]) -> io::Result<()> {
        fs::create_dir_all(&self.0)?;
        let path = self.0.join(format!("{dev_eui}.heard"));
        let size = fs::metadata(&path).map_or(0, |about| about.len());
        if size == 0 && fs::read_dir(&self.0)?.count() >= DEVICES {
            return Err(io::Error::other(format!("frames of {DEVICES} devices are kept already")));
        }
        if size >= EACH_BYTES {
            return Err(io::Error::other(format!("{size} bytes of it are kept already")));
        }
        let mut bytes = if size == 0 { record::HEADER.to_vec() } else { Vec::new() };
        for frame in frames {
            record::write(&mut bytes, 0, 0, frame)?;
        }
        OpenOptions::new().create(true).append(true).open(path)?.write_all(&bytes)
    }

    /// The kept frames, in the order in which they were heard.
    pub(crate) fn all(&self) -> io::Result<Vec<FrameHeard>> {
        let mut frames = Vec::new();
        for path in self.files()? {
            frames.extend(record::read(&fs::read(path)?).records.into_iter().map(|record| record.frame));
        }
        frames.sort_by_key(|frame| frame.reception.heard_at);
        Ok(frames)
    }

    /// Removes them, once they are in the journal again.
    pub(crate) fn clear(&self) -> io::Result<()> {
        self.files()?.into_iter().try_for_each(fs::remove_file)
    }

    fn files(&self) -> io::Result<Vec<PathBuf>> {
        match fs::read_dir(&self.0) {
            Ok(entries) => entries.map(|entry| entry.map(|entry| entry.path())).collect(),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ingest::journal::tests::frame;

    #[test]
    fn what_is_kept_of_a_device_is_bounded_and_comes_back_in_order() {
        let folder = tempfile::tempdir().unwrap();
        let quarantined = QuarantinedFrames::beside(folder.path());
        assert_eq!(quarantined.all().unwrap(), []);
        quarantined.put(Eui64(2), &[frame(5, vec![5])]).unwrap();
        quarantined.put(Eui64(1), &[frame(4, vec![4])]).unwrap();
        quarantined.put(Eui64(2), &[frame(6, vec![6])]).unwrap();
        let kept: Vec<i64> = quarantined.all().unwrap().iter().map(|frame| frame.reception.heard_at.0).collect();
        assert_eq!(kept, [4, 5, 6]);
        let many = vec![frame(7, vec![7; 250]); 4000];
        let mut rounds = 0;
        while quarantined.put(Eui64(3), &many).is_ok() {
            rounds += 1;
        }
        assert!((3..=8).contains(&rounds), "{rounds}");
        quarantined.clear().unwrap();
        assert_eq!(quarantined.all().unwrap(), []);
    }
}
