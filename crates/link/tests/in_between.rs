//! What stands between us and a machine, and does not do as it should: proxies and agents that lie, stall, or say too much.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod scene;

use std::time::Duration;

use lantern_book::Proxy;
use lantern_keys::{KeyAlgorithm, PrivateKey, SignatureAlgorithm};
use lantern_link::{
    AgentClient, AgentError, AgentSocket, Answer, Answering, Ask, ConnectRequest, LinkError, ProxyError,
    Question, connect,
};
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames, Identity, MAX_FRAME_LEN};
use scene::{Scene, on_this_thread};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, UnixListener};

/// Knows the proxy's password; counts how often it was wanted.
#[derive(Default)]
struct Clerk(std::sync::atomic::AtomicUsize);

impl Ask for Clerk {
    fn ask(&self, question: Question) -> Answering {
        let answer = match question {
            Question::ProxyPassword { .. } => {
                self.0.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                Answer::Secret(lantern_keys::SecretString::new("ebb and flow".into()))
            }
            _ => Answer::NoOne,
        };
        Box::pin(std::future::ready(answer))
    }
}

/// A proxy that says its pieces one after the other, each after it has heard something.
async fn proxy_that_says(pieces: Vec<Vec<u8>>) -> std::net::SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let pieces = pieces.clone();
            tokio::spawn(async move {
                let mut heard = vec![0; 4096];
                for piece in pieces {
                    if !matches!(stream.read(&mut heard).await, Ok(1..)) {
                        return;
                    }
                    let _ = stream.write_all(&piece).await;
                }
                // It stays, and says nothing more.
                while let Ok(1..) = stream.read(&mut heard).await {}
            });
        }
    });
    address
}

async fn through(scene: &Scene, uri: &str, clerk: &Clerk) -> LinkError {
    let mut request: ConnectRequest = scene.request.clone();
    request.proxy = Some(Proxy::parse(uri).unwrap());
    request.limits.connect = Duration::from_millis(300);
    request.limits.handshake = Duration::from_millis(300);
    connect(&request, clerk).await.expect_err("the proxy let us through")
}

fn why(error: LinkError) -> ProxyError {
    match error {
        LinkError::Proxy { source, .. } => source,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_proxy_that_speaks_otherwise_is_told_as_what_it_says() {
    on_this_thread(async {
        let scene = Scene::new();
        let endless = [&b"HTTP/1.1 200 OK\r\n"[..], &b"X: y\r\n".repeat(20_000)].concat();
        let http: [(&[u8], &str); 9] = [
            (b"220 mail.example ESMTP\r\n\r\n", "NotAProxy"),
            (b"HTTP/1.1 \xff\xff\r\n\r\n", "NotAProxy"),
            (b"HTTP/1.1 2000000000000000000000 OK\r\n\r\n", "NotAProxy"),
            (&endless, "NotAProxy"),
            (b"HTTP/1.1 200 OK\r\n", "TimedOut"),
            (b"", "TimedOut"),
            (b"HTTP/1.1 407 Who are you\r\n\r\n", "LoginWanted"),
            (b"HTTP/1.1 403 \x1b[2Jno\r\n\r\n", "NotAProxy"),
            (b"HTTP/1.1 502 Bad Gateway\r\n\r\n", "Refused(\"502 Bad Gateway\")"),
        ];
        for (says, expected) in http {
            let at = proxy_that_says(vec![says.to_vec()]).await;
            let met = why(through(&scene, &format!("http://{at}"), &Clerk::default()).await);
            let met = format!("{met:?}");
            assert!(
                met.starts_with(expected),
                "{:?}: {met}",
                String::from_utf8_lossy(&says[..says.len().min(60)])
            );
            assert!(!met.contains('\u{1b}'));
        }
        let socks: [(&[&[u8]], &str); 8] = [
            (&[b"HT"], "NotAProxy"),
            (&[&[4, 0]], "NotAProxy"),
            (&[&[5]], "TimedOut"),
            (&[&[5, 0xff]], "LoginWanted"),
            (&[&[5, 2]], "LoginWanted"),
            (&[&[5, 0], &[5, 5, 0, 1, 0, 0, 0, 0, 0, 0]], "Refused"),
            (&[&[5, 0], &[5, 0, 0, 9, 0, 0]], "NotAProxy"),
            // A name of 255 bytes that never comes.
            (&[&[5, 0], &[5, 0, 0, 3, 255, b'x']], "TimedOut"),
        ];
        for (says, expected) in socks {
            let at = proxy_that_says(says.iter().map(|piece| piece.to_vec()).collect()).await;
            let met = why(through(&scene, &format!("socks5://{at}"), &Clerk::default()).await);
            assert!(format!("{met:?}").starts_with(expected), "{says:?}: {met:?}");
        }
    });
}

/// A wrong password is asked for once more, and no oftener: the proxy's owner may be counting.
#[test]
fn a_proxy_that_refuses_the_password_hears_it_twice() {
    on_this_thread(async {
        let scene = Scene::new();
        let clerk = Clerk::default();
        let at = proxy_that_says(vec![b"HTTP/1.1 407 No\r\n\r\n".to_vec()]).await;
        let met = why(through(&scene, &format!("http://keeper@{at}"), &clerk).await);
        assert!(matches!(met, ProxyError::LoginRefused), "{met:?}");
        assert_eq!(clerk.0.load(std::sync::atomic::Ordering::Relaxed), 2);
        let at = proxy_that_says(vec![vec![5, 2], vec![1, 1]]).await;
        let met = why(through(&scene, &format!("socks5://keeper@{at}"), &clerk).await);
        assert!(matches!(met, ProxyError::LoginRefused), "{met:?}");
        // A name that does not fit is refused before anything is sent.
        let mut request = scene.request.clone();
        request.addresses = vec!["x".repeat(300)];
        request.proxy =
            Some(Proxy::parse(&format!("socks5://{}", proxy_that_says(vec![vec![5, 0]]).await)).unwrap());
        let met = why(connect(&request, &clerk).await.unwrap_err());
        assert!(matches!(met, ProxyError::TooLong), "{met:?}");
    });
}

/// What follows a proxy's answer belongs to the machine behind: not a byte of it is lost, also when it comes in the same piece.
#[test]
fn the_first_bytes_of_the_machine_are_not_the_proxys() {
    on_this_thread(async {
        let scene = Scene::new();
        for (scheme, says) in [
            ("http", vec![b"HTTP/1.1 200 OK\r\nVia: pier\r\n\r\nHTTP/1.1 400 Bad Request\r\n".to_vec()]),
            (
                "socks5",
                vec![
                    vec![5, 0],
                    [&[5, 0, 0, 1, 0, 0, 0, 0, 0, 22][..], b"HTTP/1.1 400 Bad Request\r\n"].concat(),
                ],
            ),
        ] {
            let at = proxy_that_says(says).await;
            let met = through(&scene, &format!("{scheme}://{at}"), &Clerk::default()).await;
            let met = format!("{met:?}");
            assert!(met.contains("Handshake") && met.contains("400 Bad Request"), "{scheme}: {met}");
        }
    });
}

/// An agent that answers every question with the same bytes; none: it says nothing.
fn agent_that_says(scene: &Scene, name: &str, says: Option<Vec<u8>>) -> AgentSocket {
    let path = scene.folder.path().join(name);
    let listener = UnixListener::bind(&path).unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let says = says.clone();
            tokio::spawn(async move {
                let mut heard = vec![0; 4096];
                while let Ok(1..) = stream.read(&mut heard).await {
                    match &says {
                        Some(says) if says.is_empty() => return,
                        Some(says) => drop(stream.write_all(says).await),
                        None => {}
                    }
                }
            });
        }
    });
    AgentSocket { path, what: "the agent" }
}

#[test]
fn an_agent_that_lies_is_told_as_that_and_costs_nothing() {
    on_this_thread(async {
        let scene = Scene::new();
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let many = vec![Identity { blob: vec![0; 60], comment: "x".repeat(1000) }; 200];
        let wrong = key.sign(b"something else", SignatureAlgorithm::Ed25519).unwrap().encode();
        let framed = |response: AgentResponse| Frames::wrap(&response.encode()).to_vec();
        let cases: [(&str, Vec<u8>, &str); 7] = [
            ("endless", [&u32::MAX.to_be_bytes()[..], b"xx"].concat(), "Protocol"),
            ("empty", vec![0, 0, 0, 0], "Protocol"),
            ("garbage", Frames::wrap(&[200, 1, 2, 3]).to_vec(), "Protocol"),
            ("hangs-up", Vec::new(), "Io"),
            ("says-no", framed(AgentResponse::Failure), "Refused"),
            ("says-else", framed(AgentResponse::Success), "Refused"),
            ("wrong", framed(AgentResponse::Signature(wrong)), "Protocol"),
        ];
        for (name, says, expected) in cases {
            let mut client = AgentClient::connect(&agent_that_says(&scene, name, Some(says))).await.unwrap();
            let met = client.sign(key.public(), SignatureAlgorithm::Ed25519, b"a login").await.unwrap_err();
            assert!(format!("{met:?}").starts_with(expected), "{name}: {met:?}");
        }
        // Many keys are as many as fit a frame; more is no list.
        let list = framed(AgentResponse::Identities(many.clone()));
        let mut client = AgentClient::connect(&agent_that_says(&scene, "many", Some(list))).await.unwrap();
        assert_eq!(client.list().await.unwrap().len(), 200);
        let too_long = [&(MAX_FRAME_LEN as u32 + 1).to_be_bytes()[..], &[12]].concat();
        let mut client =
            AgentClient::connect(&agent_that_says(&scene, "long", Some(too_long))).await.unwrap();
        assert!(matches!(client.list().await, Err(AgentError::Protocol { .. })));
        let nobody = AgentSocket { path: scene.folder.path().join("nobody"), what: "the agent" };
        assert!(matches!(AgentClient::connect(&nobody).await, Err(AgentError::Io { .. })));
    });
}

/// An answer that was not waited for is not taken for the next one's.
#[test]
fn a_question_that_was_given_up_gives_its_answer_to_nobody() {
    on_this_thread(async {
        let scene = Scene::new();
        let path = scene.folder.path().join("slow");
        let listener = UnixListener::bind(&path).unwrap();
        tokio::spawn(async move {
            let mut visits = 0;
            while let Ok((mut stream, _)) = listener.accept().await {
                visits += 1;
                let answer = match visits {
                    1 => AgentResponse::Failure,
                    _ => AgentResponse::Identities(Vec::new()),
                };
                tokio::spawn(async move {
                    let mut heard = vec![0; 4096];
                    while let Ok(1..) = stream.read(&mut heard).await {
                        tokio::time::sleep(Duration::from_millis(if visits == 1 { 60 } else { 0 })).await;
                        let _ = stream.write_all(&Frames::wrap(&answer.encode())).await;
                    }
                });
            }
        });
        let mut client = AgentClient::connect(&AgentSocket { path, what: "the agent" }).await.unwrap();
        let given_up = tokio::time::timeout(Duration::from_millis(10), client.ask(&AgentRequest::List)).await;
        assert!(given_up.is_err());
        // Long enough for the late answer to be there.
        tokio::time::sleep(Duration::from_millis(120)).await;
        assert_eq!(client.list().await.unwrap().len(), 0);
    });
}

/// Tells which names were resolved, in order.
#[derive(Default)]
struct Listener(std::sync::Mutex<Vec<(String, bool)>>);

impl Ask for Listener {
    fn ask(&self, _question: Question) -> Answering {
        Box::pin(std::future::ready(Answer::NoOne))
    }

    fn step(&self, step: &lantern_link::Step<'_>) {
        if let lantern_link::Step::Resolved { name, found, .. } = step {
            self.0.lock().unwrap().push(((*name).to_owned(), found.is_ok()));
        }
    }
}

/// Names that nobody knows are no matter beside an address that answers; each is told, in the order in which they were given.
#[test]
fn names_that_are_not_found_do_not_stand_in_the_way() {
    on_this_thread(async {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let mut addresses: Vec<String> = (0..6).map(|n| format!("lamp-{n}.invalid")).collect();
        addresses.push("127.0.0.1".into());
        let what =
            |addresses| lantern_link::Dial { addresses, port, race: true, limit: Duration::from_secs(20) };
        let told = Listener::default();
        let (_stream, reached) = lantern_link::dial(what(&addresses), &told).await.unwrap();
        assert_eq!(reached.port(), port);
        let told = told.0.into_inner().unwrap();
        let expected: Vec<(String, bool)> =
            addresses.iter().map(|name| (name.clone(), name == "127.0.0.1")).collect();
        assert_eq!(told, expected);
        let met = lantern_link::dial(what(&addresses[..2]), &Listener::default()).await.unwrap_err();
        assert!(matches!(met, LinkError::NameNotFound { .. }), "{met:?}");
    });
}

/// An agent of another user's is asked nothing: it would learn what is asked, and could be given a key.
#[test]
fn an_agent_of_another_user_is_no_agent_of_ours() {
    on_this_thread(async {
        // Only root can be somebody else.
        if !rustix::process::geteuid().is_root() {
            return;
        }
        let folder = tempfile::tempdir().unwrap();
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o777);
        std::fs::set_permissions(folder.path(), open).unwrap();
        let path = folder.path().join("agent");
        let listens = "import socket, sys, time; s = socket.socket(socket.AF_UNIX); s.bind(sys.argv[1]); s.listen(); print('ready', flush=True); time.sleep(60)";
        let mut other = std::process::Command::new("setpriv")
            .args([
                "--reuid",
                "65534",
                "--regid",
                "65534",
                "--clear-groups",
                "/usr/bin/python3",
                "-c",
                listens,
            ])
            .arg(&path)
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let mut ready = [0; 5];
        std::io::Read::read_exact(&mut other.stdout.take().unwrap(), &mut ready).unwrap();
        let met = AgentClient::connect(&AgentSocket { path, what: "the agent" }).await;
        other.kill().unwrap();
        other.wait().unwrap();
        assert!(matches!(met, Err(AgentError::NotOurs { uid: 65534, .. })), "{met:?}");
    });
}
