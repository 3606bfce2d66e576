//! Archives that people send in: only the needed files are read, within limits.
//!
//! Nothing is written to a disk, so no name in an archive can reach anything. Still, one that tries says what it is,
//! and is refused. Links are passed over.

use std::io::{Cursor, Read};

use api::problem::Problem;
use domain::model::catalogue;
use domain::model::catalogue::Files;
use flate2::read::GzDecoder;
use tar::EntryType;

/// Bytes of a path, and of a header that says more.
const LONGEST_NAME: u64 = 4_096;
const LONGEST_HEADER: u64 = 65_536;
/// Entries read at most.
const MOST_ENTRIES: usize = 20_000;
/// Bytes an archive may unpack to, with all that is passed over.
const MOST_UNPACKED: u64 = 128 << 20;
/// Bytes of the files that are taken, and of one of them.
const MOST_TAKEN: usize = 32 << 20;
const MOST_FILE: u64 = 1 << 20;

fn bad(detail: impl Into<String>) -> Problem {
    Problem::new(422, "bad_archive", "The archive cannot be used").field("archive").detail(detail)
}

/// Model files and scripts of a zip, a tar or a gzipped tar, by path.
///
/// # Errors
/// If it is none of these, is damaged, unpacks to too much, or has paths that lead out of it.
pub(crate) fn unpack(bytes: &[u8]) -> Result<Files, Problem> {
    match bytes {
        [b'P', b'K', 3, 4, ..] => unzip(bytes),
        [0x1f, 0x8b, ..] => untar(GzDecoder::new(bytes)),
        _ if bytes.get(257..262) == Some(b"ustar") => untar(bytes),
        _ => Err(bad("a zip, a tar or a gzipped tar is wanted (.zip, .tar, .tar.gz)")),
    }
}

/// The path of an entry, if its file is wanted; an error if it leads out of the archive.
fn wanted(path: &str) -> Result<Option<String>, Problem> {
    let path = path.strip_prefix("./").unwrap_or(path);
    let out = path.starts_with('/')
        || path.contains(['\\', '\0'])
        || path.split('/').any(|part| part == "..")
        || path.as_bytes().get(1) == Some(&b':');
    if out {
        return Err(bad(format!(
            "{path:?} leads out of the archive: it was not made in good faith, or by a faulty program"
        )));
    }
    let name = path.rsplit('/').next().unwrap_or(path);
    Ok(catalogue::wanted(name).then(|| path.to_owned()))
}

/// Collects files, and counts their bytes.
#[derive(Default)]
struct Taken {
    files: Files,
    bytes: usize,
    entries: usize,
}

impl Taken {
    fn count(&mut self) -> Result<(), Problem> {
        self.entries += 1;
        if self.entries > MOST_ENTRIES {
            return Err(bad(format!("it has more than {MOST_ENTRIES} entries")));
        }
        Ok(())
    }

    fn take(&mut self, path: String, from: impl Read) -> Result<(), Problem> {
        let mut bytes = Vec::new();
        let read = from.take(MOST_FILE + 1).read_to_end(&mut bytes);
        read.map_err(|why| bad(format!("{path}: {why}")))?;
        if bytes.len() as u64 > MOST_FILE {
            return Err(bad(format!("{path} has more than {MOST_FILE} bytes")));
        }
        self.bytes += bytes.len();
        if self.bytes > MOST_TAKEN {
            return Err(bad(format!("its models have more than {MOST_TAKEN} bytes in all")));
        }
        self.files.insert(path, bytes);
        Ok(())
    }
}

fn unzip(bytes: &[u8]) -> Result<Files, Problem> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|why| bad(why.to_string()))?;
    let mut taken = Taken::default();
    for n in 0..archive.len() {
        taken.count()?;
        let entry = archive.by_index(n).map_err(|why| bad(why.to_string()))?;
        let path = wanted(&entry.name().map_err(|why| bad(why.to_string()))?)?;
        if let Some(path) = path.filter(|_| entry.is_file()) {
            taken.take(path, entry)?;
        }
    }
    Ok(taken.files)
}

/// The same for a tar, which is read as a stream.
pub(crate) fn untar(from: impl Read) -> Result<Files, Problem> {
    untar_within(MOST_UNPACKED, from)
}

fn untar_within(most: u64, from: impl Read) -> Result<Files, Problem> {
    let mut archive = tar::Archive::new(Bounded { from, most, left: most });
    let mut taken = Taken::default();
    // A long name stands in an entry of its own before the one that it is for. They are read here, within limits.
    let mut long_name = None;
    for entry in archive.entries().map_err(|why| bad(why.to_string()))?.raw(true) {
        taken.count()?;
        let mut entry = entry.map_err(|why| bad(why.to_string()))?;
        match entry.header().entry_type() {
            EntryType::GNULongName => {
                let name = head(&mut entry, LONGEST_NAME)?;
                let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
                long_name = Some(String::from_utf8_lossy(&name[..end]).into_owned());
            }
            EntryType::GNULongLink => {
                head(&mut entry, LONGEST_NAME)?;
            }
            EntryType::XHeader => long_name = extended(&head(&mut entry, LONGEST_HEADER)?)?.or(long_name),
            EntryType::GNUSparse => return Err(bad("it has a file with holes, which no model has")),
            kind => {
                let path = long_name.take();
                let path = path.unwrap_or_else(|| String::from_utf8_lossy(&entry.path_bytes()).into_owned());
                let path = wanted(&path)?;
                if let Some(path) = path.filter(|_| kind.is_file()) {
                    taken.take(path, entry)?;
                }
            }
        }
    }
    Ok(taken.files)
}

/// An entry that says something of the next one.
fn head(entry: &mut tar::Entry<'_, impl Read>, longest: u64) -> Result<Vec<u8>, Problem> {
    let length = entry.size();
    if length > longest {
        return Err(bad(format!("it has a header of {length} bytes; at most {longest} are allowed")));
    }
    let mut bytes = Vec::new();
    entry.take(longest).read_to_end(&mut bytes).map_err(|why| bad(why.to_string()))?;
    Ok(bytes)
}

/// The path that an extended header tells (POSIX.1-2001, pax).
fn extended(header: &[u8]) -> Result<Option<String>, Problem> {
    let mut path = None;
    for extension in tar::PaxExtensions::new(header) {
        let extension = extension.map_err(|why| bad(why.to_string()))?;
        match extension.key() {
            Ok("path") => path = Some(String::from_utf8_lossy(extension.value_bytes()).into_owned()),
            Ok("size") => return Err(bad("it has a file larger than is taken")),
            _ => {}
        }
    }
    Ok(path)
}

/// A reader that fails when too much is unpacked.
struct Bounded<R> {
    from: R,
    most: u64,
    left: u64,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.from.read(buffer)?;
        self.left = self
            .left
            .checked_sub(read as u64)
            .ok_or_else(|| std::io::Error::other(format!("it unpacks to more than {} MB", self.most >> 20)))?;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use flate2::Compression;
    use flate2::write::GzEncoder;
    use zip::write::SimpleFileOptions;

    use super::*;

    fn tar_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
        let mut builder = tar::Builder::new(Vec::new());
        for (path, bytes) in entries {
            let mut header = tar::Header::new_ustar();
            // Written as it is: the library would not put such names into an archive.
            header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            header.set_cksum();
            builder.append(&header, *bytes).unwrap();
        }
        builder.into_inner().unwrap()
    }

    fn zip_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (path, bytes) in entries {
            writer.start_file(*path, SimpleFileOptions::default()).unwrap();
            writer.write_all(bytes).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    fn gz(bytes: &[u8]) -> Vec<u8> {
        let mut writer = GzEncoder::new(Vec::new(), Compression::best());
        writer.write_all(bytes).unwrap();
        writer.finish().unwrap()
    }

    const GOOD: &[(&str, &[u8])] = &[("a/gauge/model.toml", b"x"), ("./a/gauge/d.js", b"y"), ("a/photo.png", b"z")];

    #[test]
    fn what_is_needed_is_taken_of_each_kind() {
        for archive in [tar_of(GOOD), gz(&tar_of(GOOD)), zip_of(GOOD)] {
            let files = unpack(&archive).unwrap();
            assert_eq!(files.keys().collect::<Vec<_>>(), ["a/gauge/d.js", "a/gauge/model.toml"]);
        }
        let why = unpack(b"just text").unwrap_err();
        assert_eq!((why.code.as_str(), why.field.as_deref()), ("bad_archive", Some("archive")));
        assert!(unpack(&zip_of(GOOD)[..60]).is_err(), "a torn one");
        assert!(unpack(&gz(&tar_of(GOOD))[..60]).is_err());
    }

    #[test]
    fn paths_that_lead_out_are_refused() {
        for path in ["../../etc/model.toml", "/etc/model.toml", "a/../../model.toml", "c:/model.toml", "a\\..\\x.js"] {
            let entries: &[(&str, &[u8])] = &[(path, b"x")];
            for archive in [tar_of(entries), zip_of(entries)] {
                assert!(unpack(&archive).unwrap_err().to_string().contains("leads out of the archive"), "{path}");
            }
        }
    }

    #[test]
    fn bombs_are_put_out() {
        let zeros = vec![0; 2 << 20];
        let large: &[(&str, &[u8])] = &[("a/model.toml", &zeros)];
        for archive in [gz(&tar_of(large)), zip_of(large)] {
            assert!(unpack(&archive).unwrap_err().to_string().contains("more than 1048576 bytes"));
        }
        // Skipped files of a tar still have to be unpacked.
        let mut writer = GzEncoder::new(Vec::new(), Compression::fast());
        let mut header = tar::Header::new_ustar();
        header.set_path("padding.bin").unwrap();
        header.set_size(4 << 30);
        header.set_cksum();
        writer.write_all(header.as_bytes()).unwrap();
        writer.write_all(&vec![0; 5 << 20]).unwrap();
        let bomb = writer.finish().unwrap();
        let why = untar_within(4 << 20, GzDecoder::new(bomb.as_slice())).unwrap_err();
        assert!(why.to_string().contains("more than 4 MB"), "{why}");
        let many: Vec<(String, &[u8])> = (0..=MOST_ENTRIES).map(|n| (format!("{n}.txt"), &b""[..])).collect();
        let many: Vec<(&str, &[u8])> = many.iter().map(|(path, bytes)| (path.as_str(), *bytes)).collect();
        assert!(unpack(&tar_of(&many)).unwrap_err().to_string().contains("20000 entries"));
    }

    #[test]
    fn links_are_passed_over() {
        let mut builder = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(tar::EntryType::Symlink);
        header.set_size(0);
        builder.append_link(&mut header, "a/model.toml", "/etc/passwd").unwrap();
        assert_eq!(unpack(&builder.into_inner().unwrap()).unwrap().len(), 0);
    }

    /// A tar with entries of these kinds. The builder writes a long name as an entry before the file.
    fn tar_of_kinds(entries: &[(EntryType, &str, &[u8])]) -> Vec<u8> {
        let mut builder = tar::Builder::new(Vec::new());
        for (kind, path, bytes) in entries {
            let mut header = tar::Header::new_gnu();
            header.set_entry_type(*kind);
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            builder.append_data(&mut header, path, *bytes).unwrap();
        }
        builder.into_inner().unwrap()
    }

    #[test]
    fn long_names_are_read_within_limits() {
        let path = format!("{}/model.toml", "f".repeat(150));
        let long = tar_of_kinds(&[(EntryType::Regular, &path, b"x = 1")]);
        assert!(untar(&*long).unwrap().contains_key(&path));
        let record = format!("{} path={path}\n", path.len() + 10);
        let by_header =
            [(EntryType::XHeader, "head", record.as_bytes()), (EntryType::Regular, "a/model.toml", b"x = 1")];
        assert!(untar(&*tar_of_kinds(&by_header)).unwrap().contains_key(&path), "{record}");
        for (kind, bytes) in
            [(EntryType::GNULongName, 5_000), (EntryType::GNULongLink, 5_000), (EntryType::XHeader, 70_000)]
        {
            let why = untar(&*tar_of_kinds(&[(kind, "head", &vec![b'a'; bytes])])).unwrap_err().to_string();
            assert!(why.contains(&format!("a header of {bytes} bytes")), "{why}");
        }
        let out = [(EntryType::GNULongName, "head", &b"../../etc/model.toml\0"[..]), (EntryType::Regular, "a", b"")];
        assert!(untar(&*tar_of_kinds(&out)).unwrap_err().to_string().contains("leads out"));
        let sparse = tar_of_kinds(&[(EntryType::GNUSparse, "model.toml", b"")]);
        assert!(untar(&*sparse).unwrap_err().to_string().contains("with holes"));
    }
}
