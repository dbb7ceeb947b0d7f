//! A directory of files at a real FTP server on loopback.

use crate::common::{CSV, ask, at_work, profile, shown};
use mizuno_sources::Class;
use std::{net::TcpListener, path::Path};
use tempfile::TempDir;

/// Serves a directory; returns its address.
async fn serve(dir: &Path) -> String {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let (root, address) = (dir.to_owned(), format!("127.0.0.1:{port}"));
    let server = libunftp::ServerBuilder::new(Box::new(move || unftp_sbe_fs::Filesystem::new(root.clone()).unwrap())).build().unwrap();
    let listen = address.clone();
    tokio::spawn(async move { server.listen(listen).await });
    for _ in 0..100 {
        if tokio::net::TcpStream::connect(&address).await.is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    format!("ftp://{address}")
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_listed_and_fetched_and_what_is_not_there_is_named() {
    let dir = TempDir::new().unwrap();
    std::fs::create_dir(dir.path().join("daily")).unwrap();
    std::fs::write(dir.path().join("daily/KBF.csv"), "date,o,h,l,c,v\n2025-04-09,1.25,2.50,1.00,1.75,300\n").unwrap();
    std::fs::write(dir.path().join("daily/big.csv"), vec![b'1'; 2 << 20]).unwrap();
    let base = serve(dir.path()).await;
    let request = |path: &str| format!("[[series.request]]\nget = \"/daily/{path}\"\nlisted_at = \"/daily\"\n");

    let asked = ask(&at_work(profile(&base, "", &request("{symbol}.csv"), CSV), &[], dir.path())).await;
    assert_eq!(shown(&asked.outcome.unwrap()), ["2025-04-09 1.25 2.50 1.00 1.75 300"]);
    assert_eq!(asked.pages[0].request, format!("GET {base}/daily/KBF.csv"));

    let missing = ask(&at_work(profile(&base, "", &request("OXB.csv"), CSV), &[], dir.path())).await.outcome.unwrap_err();
    assert!(missing.class == Class::NotListed && missing.message.contains("lists 2 files and not OXB.csv"), "{missing}");
    let large = ask(&at_work(profile(&base, "", &request("big.csv"), CSV), &[], dir.path())).await.outcome.unwrap_err();
    assert_eq!(large.class, Class::TooLarge, "{large}");
    let unlisted = "[[series.request]]\nget = \"/nowhere/KBF.csv\"\n";
    let absent = ask(&at_work(profile(&base, "", unlisted, CSV), &[], dir.path())).await.outcome.unwrap_err();
    assert_eq!(absent.class, Class::NotFound, "{absent}");
    let nobody = ask(&at_work(profile("ftp://127.0.0.1:1", "", unlisted, CSV), &[], dir.path())).await.outcome.unwrap_err();
    assert_eq!(nobody.class, Class::Unreachable, "{nobody}");
}
