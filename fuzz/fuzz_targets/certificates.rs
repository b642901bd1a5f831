//! Certificates of TLS and what they come in: files, requests, PKCS#12, chains; and the line of a prepared machine.
#![no_main]

use lantern_book::UnprovenLine;
use lantern_keys::issuing::CertificateRequest;
use lantern_keys::{SecretString, TlsCertificate, pkcs12, read_certificates};

libfuzzer_sys::fuzz_target!(|input: &[u8]| {
    let Some((which, bytes)) = input.split_first() else { return };
    match which % 5 {
        0 => {
            if let Ok(certificate) = TlsCertificate::read(bytes) {
                let _ = certificate.faults(&["chart-room", "192.0.2.7"], 0);
                let _ = certificate.faults_by_issuer(&certificate);
                let _ = (
                    certificate.describe(),
                    certificate.holder(),
                    certificate.uses(),
                    certificate.principal(),
                );
            }
        }
        1 => drop(CertificateRequest::read(bytes)),
        2 => {
            if let Ok(chain) = read_certificates(bytes) {
                for pair in chain.windows(2) {
                    let [one, above] = pair else { continue };
                    let _ = one.faults_by_issuer(above);
                }
            }
        }
        3 => {
            let _ = pkcs12::is_pkcs12(bytes);
            let _ = pkcs12::read(bytes, &SecretString::new("low water".into()));
        }
        _ => {
            if let Ok(text) = std::str::from_utf8(bytes)
                && let Ok(line) = UnprovenLine::find(text)
            {
                let _ = (line.name().len(), line.prove(&SecretString::default()));
            }
        }
    }
});
