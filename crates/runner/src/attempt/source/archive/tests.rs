use super::*;
use flate2::Compression;
use flate2::write::GzEncoder;
use proptest::prelude::*;
use std::fs;
use tar::{Builder, Header};

/// An archive, and its digest.
fn packed(fill: impl FnOnce(&mut Builder<GzEncoder<Vec<u8>>>)) -> (Vec<u8>, String) {
    let mut builder = Builder::new(GzEncoder::new(Vec::new(), Compression::fast()));
    fill(&mut builder);
    let archive = builder.into_inner().unwrap().finish().unwrap();
    let digest = Sha256::digest(&archive)
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    (archive, digest)
}

/// Adds an entry with any name: the builder's own ways refuse some.
fn add(
    builder: &mut Builder<GzEncoder<Vec<u8>>>,
    kind: EntryType,
    name: &str,
    link: &str,
    data: &[u8],
) {
    let mut header = Header::new_ustar();
    header.as_ustar_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
    header.as_ustar_mut().unwrap().linkname[..link.len()].copy_from_slice(link.as_bytes());
    header.set_entry_type(kind);
    header.set_mode(0o755);
    header.set_size(data.len() as u64);
    header.set_cksum();
    builder.append(&header, data).unwrap();
}

#[test]
fn files_folders_and_links_within_are_unpacked() {
    let folder = tempfile::tempdir().unwrap();
    let (archive, digest) = packed(|builder| {
        add(builder, EntryType::Directory, "src/", "", b"");
        add(
            builder,
            EntryType::Regular,
            "src/main.c",
            "",
            b"int main() { return 0; }",
        );
        add(builder, EntryType::Regular, "./deep/er/run.sh", "", b"true");
        add(
            builder,
            EntryType::Symlink,
            "deep/main",
            "../src/main.c",
            b"",
        );
    });
    let unpacked = unpack(archive.as_slice(), &digest, folder.path()).unwrap();
    assert_eq!(
        unpacked,
        Unpacked {
            files: 3,
            bytes: 28
        }
    );
    assert_eq!(
        fs::read(folder.path().join("deep/main")).unwrap(),
        b"int main() { return 0; }"
    );
    assert_eq!(
        fs::read(folder.path().join("deep/er/run.sh")).unwrap(),
        b"true"
    );
}

#[test]
fn what_would_leave_the_folder_or_is_no_file_is_refused() {
    let cases = [
        (EntryType::Regular, "../out", "", "leaves the folder"),
        (EntryType::Regular, "a/../../out", "", "leaves the folder"),
        (EntryType::Regular, "/etc/out", "", "leaves the folder"),
        (
            EntryType::Symlink,
            "up",
            "here/here/../..",
            "is a link that leaves the folder",
        ),
        (
            EntryType::Symlink,
            "link",
            "/etc/passwd",
            "is a link that leaves",
        ),
        (
            EntryType::Symlink,
            "a/link",
            "../../out",
            "is a link that leaves",
        ),
        (EntryType::Link, "hard", "/etc/passwd", "is neither a file"),
        (EntryType::Char, "device", "", "is neither a file"),
        (EntryType::Fifo, "pipe", "", "is neither a file"),
        (EntryType::Regular, "bell\u{7}", "", "is no name"),
    ];
    for (kind, name, link, expected) in cases {
        let outer = tempfile::tempdir().unwrap();
        let folder = outer.path().join("workspace");
        fs::create_dir(&folder).unwrap();
        let (archive, digest) = packed(|builder| add(builder, kind, name, link, b""));
        let error = unpack(archive.as_slice(), &digest, &folder).expect_err(name);
        assert!(error.to_string().contains(expected), "{name}: {error}");
        assert!(!outer.path().join("out").exists());
    }
}

#[test]
fn nothing_is_written_through_a_link_or_twice() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("real")).unwrap();
    let (archive, digest) = packed(|builder| {
        add(builder, EntryType::Symlink, "way", "real", b"");
        add(builder, EntryType::Regular, "way/file", "", b"x");
    });
    let error = unpack(archive.as_slice(), &digest, folder.path()).expect_err("is refused");
    assert!(error.to_string().contains("is below a link"), "{error}");
    assert!(!folder.path().join("real/file").exists());
    let (archive, digest) = packed(|builder| {
        add(builder, EntryType::Regular, "twice", "", b"1");
        add(builder, EntryType::Regular, "twice", "", b"2");
    });
    assert!(unpack(archive.as_slice(), &digest, folder.path()).is_err());
}

#[test]
fn an_archive_that_is_cut_off_damaged_or_another_is_refused() {
    let (archive, digest) = packed(|builder| {
        add(builder, EntryType::Regular, "file", "", &[7; 100_000]);
    });
    let half = &archive[..archive.len() / 2];
    let (other, _) = packed(|builder| add(builder, EntryType::Regular, "other", "", b"x"));
    for (what, bytes) in [("half", half), ("none", &[]), ("another", &other)] {
        let folder = tempfile::tempdir().unwrap();
        assert!(unpack(bytes, &digest, folder.path()).is_err(), "{what}");
    }
}

proptest! {
    #[test]
    fn whatever_an_archive_holds_nothing_is_made_outside(
        entries in proptest::collection::vec(
            (0_usize..4, "[a.]{1,3}(/[a.]{1,3}){0,3}", "[a./]{0,8}"), 1..8,
        ),
    ) {
        let outer = tempfile::tempdir().unwrap();
        let folder = outer.path().join("workspace");
        fs::create_dir(&folder).unwrap();
        let kinds = [EntryType::Regular, EntryType::Directory, EntryType::Symlink, EntryType::Link];
        let (archive, digest) = packed(|builder| {
            for (kind, name, link) in &entries {
                let data: &[u8] = if *kind == 0 { b"data" } else { b"" };
                add(builder, kinds[*kind], name, link, data);
            }
        });
        let _ = unpack(archive.as_slice(), &digest, &folder);
        let outside: Vec<_> = fs::read_dir(outer.path()).unwrap().map(|one| one.unwrap().file_name()).collect();
        prop_assert_eq!(outside, ["workspace"]);
    }
}
