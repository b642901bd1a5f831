//! Certificates of TLS that are made here (RFC 5280): of authorities, of machines and of users. How they are laid out is the library's; what is in them is
//! decided here.

mod request;
mod signer;

use std::net::IpAddr;

use der::asn1::{Any, Ia5String, ObjectIdentifier, OctetString, Utf8StringRef};
use der::flagset::FlagSet;
use der::{DateTime, Decode, Encode};
use x509_cert::attr::AttributeTypeAndValue;
use x509_cert::builder::profile::BuilderProfile;
use x509_cert::builder::{Builder, CertificateBuilder};
use x509_cert::ext::pkix::constraints::name::GeneralSubtree;
use x509_cert::ext::pkix::name::{GeneralName, OtherName};
use x509_cert::ext::pkix::{
    AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage, KeyUsages, NameConstraints,
    SubjectAltName, SubjectKeyIdentifier,
};
use x509_cert::ext::{Extension, ToExtension};
use x509_cert::name::{Name, RdnSequence, RelativeDistinguishedName};
use x509_cert::serial_number::SerialNumber;
use x509_cert::spki::{SubjectPublicKeyInfo, SubjectPublicKeyInfoRef};
use x509_cert::time::{Time, Validity};
use x509_cert::{Certificate, TbsCertificate};

use crate::container::spki;
use crate::{CertificateName, Fingerprint, KeyError, PrivateKey, RandomSource, TlsCertificate};

pub use request::CertificateRequest;
use signer::{DerSignature, Signer};

/// `id-at-commonName`.
const COMMON_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.3");
/// `id-kp-serverAuth` and `id-kp-clientAuth` (RFC 5280 §4.2.1.12).
const FOR_SERVERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1");
const FOR_CLIENTS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.2");
/// The principal name by which Windows knows a user (MS-WCCE §2.2.2.7.7.3).
const PRINCIPAL_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.20.2.3");
/// Longest common name, in characters (RFC 5280 appendix A.1, ub-common-name).
pub const MAX_COMMON_NAME: usize = 64;
/// Bytes of a serial number: more than a hundred random bits, and no more than twenty bytes (RFC 5280 §4.1.2.2).
const SERIAL_LEN: usize = 16;
/// Bytes of a key identifier (RFC 7093 §2, method 1).
const KEY_ID_LEN: usize = 20;

/// What a certificate is made for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Purpose {
    /// To sign those of machines and users, and no other authority's.
    Authority {
        /// Names and addresses that it may vouch for; every one when there are none.
        only: Vec<CertificateName>,
    },
    /// To be a machine with these names.
    Server(Vec<CertificateName>),
    /// To log in as a user, by this principal name.
    Client(String),
}

/// What is to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    /// What its subject is called; cut to [`MAX_COMMON_NAME`].
    pub common_name: String,
    /// What for.
    pub purpose: Purpose,
    /// From when, in seconds since 1970.
    pub from: i64,
    /// Until when, in seconds since 1970.
    pub until: i64,
}

/// Who signs: a certificate of an authority, and its key.
#[derive(Clone, Copy)]
pub struct Issuer<'a> {
    /// The certificate.
    pub certificate: &'a TlsCertificate,
    /// The key in it.
    pub key: &'a PrivateKey,
}

/// Makes an authority's certificate, which it signs itself.
///
/// # Errors
/// Something in the plan that has no form in a certificate.
pub fn new_authority(
    plan: &Plan,
    key: &PrivateKey,
    random: &mut dyn RandomSource,
) -> Result<TlsCertificate, KeyError> {
    let subject = name(&plan.common_name)?;
    let info = spki::encode(key.public())?;
    make(plan, subject, &info, key, &info, random)
}

/// Makes a certificate for a key, given as SubjectPublicKeyInfo in DER.
///
/// # Errors
/// The issuer may not sign others or its key is another one, it ends before the certificate would, or something in the plan has no form in a certificate.
pub fn issue(
    plan: &Plan,
    key_info: &[u8],
    issuer: Issuer<'_>,
    random: &mut dyn RandomSource,
) -> Result<TlsCertificate, KeyError> {
    let issuer_info = spki::encode(issuer.key.public())?;
    if issuer.certificate.key_info() != issuer_info {
        return Err(KeyError::Refused("sign: the key is not the one in the authority's certificate"));
    }
    if !issuer.certificate.is_authority() {
        return Err(KeyError::Refused("sign: the certificate is no authority's"));
    }
    let whole = Certificate::from_der(issuer.certificate.der()).map_err(broken)?;
    make(plan, whole.tbs_certificate().subject().clone(), key_info, issuer.key, &issuer_info, random)
}

fn broken(_: impl Sized) -> KeyError {
    KeyError::Malformed("it has no form in a certificate of RFC 5280")
}

fn make(
    plan: &Plan,
    issuer: Name,
    key_info: &[u8],
    signing: &PrivateKey,
    issuer_info: &[u8],
    random: &mut dyn RandomSource,
) -> Result<TlsCertificate, KeyError> {
    let profile = Profile {
        issuer,
        subject: name(&plan.common_name)?,
        purpose: plan.purpose.clone(),
        issuer_id: key_id(issuer_info)?,
        id: key_id(key_info)?,
    };
    let validity = Validity::new(time(plan.from)?, time(plan.until)?);
    let info = SubjectPublicKeyInfo::from_der(key_info).map_err(broken)?;
    let builder = CertificateBuilder::new(profile, serial(random)?, validity, info).map_err(broken)?;
    let signer = Signer::new(signing, issuer_info);
    let made =
        builder.build::<_, DerSignature>(&signer).map_err(|_| KeyError::Refused("sign a certificate"))?;
    TlsCertificate::read(&made.to_der().map_err(broken)?)
}

/// A random one that is positive and never zero.
fn serial(random: &mut dyn RandomSource) -> Result<SerialNumber, KeyError> {
    let mut bytes = [0; SERIAL_LEN];
    random.fill(&mut bytes);
    if let Some(first) = bytes.first_mut() {
        *first = *first & 0x7f | 0x40;
    }
    SerialNumber::new(&bytes).map_err(broken)
}

fn time(seconds: i64) -> Result<Time, KeyError> {
    let since = u64::try_from(seconds).map_err(broken)?;
    let at = DateTime::from_unix_duration(std::time::Duration::from_secs(since)).map_err(broken)?;
    // CertificateBuilder makes the older form of it where RFC 5280 §4.1.2.5 wants that.
    Ok(Time::from(at))
}

fn name(common_name: &str) -> Result<Name, KeyError> {
    let cut: String = common_name.chars().take(MAX_COMMON_NAME).collect();
    let value = Any::from(Utf8StringRef::new(&cut).map_err(broken)?);
    let mut relative = RelativeDistinguishedName::default();
    relative.insert(AttributeTypeAndValue { oid: COMMON_NAME, value }).map_err(broken)?;
    let mut sequence = RdnSequence::default();
    sequence.push(relative);
    Name::from_der(&sequence.to_der().map_err(broken)?).map_err(broken)
}

fn key_id(info: &[u8]) -> Result<OctetString, KeyError> {
    let info = SubjectPublicKeyInfoRef::from_der(info).map_err(broken)?;
    let hash = Fingerprint::of_blob(info.subject_public_key.raw_bytes());
    OctetString::new(hash.as_bytes().get(..KEY_ID_LEN).unwrap_or_default()).map_err(broken)
}

fn general(name: &CertificateName) -> Result<GeneralName, KeyError> {
    Ok(match name {
        CertificateName::Ip(address) => GeneralName::from(*address),
        CertificateName::Dns(name) => GeneralName::DnsName(Ia5String::new(name).map_err(broken)?),
    })
}

/// The part of the names that an authority may vouch for: a name with all below it, or one address (RFC 5280 §4.2.1.10).
fn subtree(name: &CertificateName) -> Result<GeneralSubtree, KeyError> {
    let base = match name {
        CertificateName::Dns(_) => general(name)?,
        CertificateName::Ip(IpAddr::V4(address)) => {
            GeneralName::IpAddress(OctetString::new([address.octets(), [0xff; 4]].concat()).map_err(broken)?)
        }
        CertificateName::Ip(IpAddr::V6(address)) => {
            let bytes = [address.octets(), [0xff; 16]].concat();
            GeneralName::IpAddress(OctetString::new(bytes).map_err(broken)?)
        }
    };
    Ok(GeneralSubtree { base, minimum: 0, maximum: None })
}

/// What is in a certificate.
struct Profile {
    issuer: Name,
    subject: Name,
    purpose: Purpose,
    issuer_id: OctetString,
    id: OctetString,
}

impl Profile {
    fn extensions(&self, tbs: &TbsCertificate) -> Result<Vec<Extension>, KeyError> {
        let mut all: Vec<Extension> = Vec::new();
        let mut add = |made: Result<Extension, der::Error>| made.map(|one| all.push(one)).map_err(broken);
        let subject = tbs.subject();
        add((&SubjectKeyIdentifier(self.id.clone())).to_extension(subject, &[]))?;
        let authority = AuthorityKeyIdentifier {
            key_identifier: Some(self.issuer_id.clone()),
            authority_cert_issuer: None,
            authority_cert_serial_number: None,
        };
        add((&authority).to_extension(subject, &[]))?;
        let usages: FlagSet<KeyUsages> = match &self.purpose {
            Purpose::Authority { .. } => KeyUsages::KeyCertSign | KeyUsages::CRLSign,
            Purpose::Server(_) | Purpose::Client(_) => KeyUsages::DigitalSignature.into(),
        };
        add((&KeyUsage(usages)).to_extension(subject, &[]))?;
        match &self.purpose {
            Purpose::Authority { only } => {
                // It signs machines and users, and no other authority.
                let constraints = BasicConstraints { ca: true, path_len_constraint: Some(0) };
                add((&constraints).to_extension(subject, &[]))?;
                if !only.is_empty() {
                    let permitted = only.iter().map(subtree).collect::<Result<Vec<_>, _>>()?;
                    let constraints =
                        NameConstraints { permitted_subtrees: Some(permitted), excluded_subtrees: None };
                    add((&constraints).to_extension(subject, &[]))?;
                }
            }
            Purpose::Server(names) => {
                add((&BasicConstraints { ca: false, path_len_constraint: None }).to_extension(subject, &[]))?;
                add((&ExtendedKeyUsage(vec![FOR_SERVERS])).to_extension(subject, &[]))?;
                let names = names.iter().map(general).collect::<Result<Vec<_>, _>>()?;
                add((&SubjectAltName(names)).to_extension(subject, &[]))?;
            }
            Purpose::Client(principal) => {
                add((&BasicConstraints { ca: false, path_len_constraint: None }).to_extension(subject, &[]))?;
                add((&ExtendedKeyUsage(vec![FOR_CLIENTS])).to_extension(subject, &[]))?;
                let value = Any::from(Utf8StringRef::new(principal).map_err(broken)?);
                let other = GeneralName::OtherName(OtherName { type_id: PRINCIPAL_NAME, value });
                add((&SubjectAltName(vec![other])).to_extension(subject, &[]))?;
            }
        }
        Ok(all)
    }
}

impl BuilderProfile for Profile {
    fn get_issuer(&self, _: &Name) -> Name {
        self.issuer.clone()
    }

    fn get_subject(&self) -> Name {
        self.subject.clone()
    }

    fn build_extensions(
        &self,
        _: SubjectPublicKeyInfoRef<'_>,
        _: SubjectPublicKeyInfoRef<'_>,
        tbs: &TbsCertificate,
    ) -> x509_cert::builder::Result<Vec<Extension>> {
        self.extensions(tbs).map_err(|_| der::Error::from(der::ErrorKind::Failed).into())
    }
}
