//! Messages there and back, and servers that say what makes no sense.

use bytes::Bytes;
use lantern_keys::wire::Writer;
use proptest::prelude::*;

use super::*;

fn path() -> impl Strategy<Value = Vec<u8>> {
    proptest::collection::vec(any::<u8>(), 0..40)
}

fn handle() -> impl Strategy<Value = Bytes> {
    path().prop_map(Bytes::from)
}

fn attributes() -> impl Strategy<Value = Attributes> {
    let pair = || proptest::option::of((any::<u32>(), any::<u32>()));
    (proptest::option::of(any::<u64>()), pair(), proptest::option::of(any::<u32>()), pair())
        .prop_map(|(size, owner, mode, times)| Attributes { size, owner, mode, times })
}

fn flags() -> impl Strategy<Value = OpenFlags> {
    any::<[bool; 6]>().prop_map(|[read, write, append, create, truncate, exclusive]| OpenFlags {
        read,
        write,
        append,
        create,
        truncate,
        exclusive,
    })
}

fn request() -> impl Strategy<Value = SftpRequest> {
    prop_oneof![
        (path(), flags(), attributes()).prop_map(|(path, flags, attributes)| SftpRequest::Open {
            path,
            flags,
            attributes
        }),
        handle().prop_map(SftpRequest::Close),
        (handle(), any::<u64>(), any::<u32>()).prop_map(|(handle, offset, len)| SftpRequest::Read {
            handle,
            offset,
            len
        }),
        (handle(), any::<u64>(), handle()).prop_map(|(handle, offset, data)| SftpRequest::Write {
            handle,
            offset,
            data
        }),
        path().prop_map(SftpRequest::Stat),
        path().prop_map(SftpRequest::LinkStat),
        handle().prop_map(SftpRequest::HandleStat),
        (path(), attributes()).prop_map(|(path, attributes)| SftpRequest::SetStat(path, attributes)),
        (path(), attributes()).prop_map(|(path, attributes)| SftpRequest::LinkSetStat(path, attributes)),
        (handle(), attributes())
            .prop_map(|(handle, attributes)| SftpRequest::HandleSetStat(handle, attributes)),
        path().prop_map(SftpRequest::OpenFolder),
        handle().prop_map(SftpRequest::ReadFolder),
        path().prop_map(SftpRequest::Remove),
        (path(), attributes()).prop_map(|(path, attributes)| SftpRequest::MakeFolder(path, attributes)),
        path().prop_map(SftpRequest::RemoveFolder),
        path().prop_map(SftpRequest::RealPath),
        path().prop_map(SftpRequest::ExpandPath),
        path().prop_map(SftpRequest::ReadLink),
        path().prop_map(SftpRequest::Space),
        (path(), path()).prop_map(|(old, new)| SftpRequest::Rename { old, new }),
        (path(), path()).prop_map(|(old, new)| SftpRequest::RenameOver { old, new }),
        (path(), path()).prop_map(|(old, new)| SftpRequest::HardLink { old, new }),
        (path(), path()).prop_map(|(link, target)| SftpRequest::MakeLink { link, target }),
        handle().prop_map(SftpRequest::Sync),
        Just(SftpRequest::Limits),
        (path(), any::<u64>(), any::<u64>()).prop_map(|(path, offset, len)| SftpRequest::Digest {
            path,
            offset,
            len
        }),
        (handle(), any::<u64>(), any::<u64>(), handle(), any::<u64>()).prop_map(
            |(from, from_offset, len, to, to_offset)| SftpRequest::CopyData {
                from,
                from_offset,
                len,
                to,
                to_offset
            }
        ),
    ]
}

fn response() -> impl Strategy<Value = SftpResponse> {
    let entry = (path(), path(), attributes()).prop_map(|(name, line, attributes)| NameEntry {
        name,
        line,
        attributes,
    });
    prop_oneof![
        (0..10_u32, "[ -~]{0,30}").prop_map(|(code, message)| {
            SftpResponse::Status(Refusal { code: StatusCode::from_number(code), message })
        }),
        handle().prop_map(SftpResponse::Handle),
        handle().prop_map(|data| SftpResponse::Data(if data.is_empty() { Vec::new() } else { vec![data] })),
        proptest::collection::vec(entry, 0..6).prop_map(SftpResponse::Names),
        attributes().prop_map(SftpResponse::Attributes),
        handle().prop_map(SftpResponse::Extended),
    ]
}

proptest! {
    #[test]
    fn a_question_is_read_as_it_was_asked(request in request(), id: u32, reversed: bool) {
        let (mut message, data) = request.encode(id, reversed);
        message.extend(data.unwrap_or_default());
        let length = u32::from_be_bytes(*message.first_chunk().unwrap());
        prop_assert_eq!(length as usize, message.len() - 4);
        prop_assert_eq!(SftpRequest::decode(&message[4..], reversed), Ok((Some(id), request.clone())));
        // Cut anywhere, it is none; nothing that it says of lengths is believed.
        for cut in 4..message.len() {
            if let Ok((_, read)) = SftpRequest::decode(&message[4..cut], reversed) {
                prop_assert!(read != request || message.len() == cut);
            }
        }
    }

    /// In whatever pieces it comes.
    #[test]
    fn an_answer_is_read_as_it_was_given(response in response(), id: u32, piece in 1..50_usize) {
        let message = response.encode(id);
        let pieces = message[4..].chunks(piece).map(Bytes::copy_from_slice).collect();
        let joined = |response| match response {
            SftpResponse::Data(pieces) => SftpResponse::Data(vec![pieces.concat().into()]),
            other => other,
        };
        let (read_id, read) = SftpResponse::decode(pieces).unwrap();
        prop_assert_eq!((read_id, joined(read)), (Some(id), joined(response)));
    }
}

fn begun() -> SftpClient {
    let mut client = SftpClient::new();
    let version = SftpResponse::Version { version: VERSION, extensions: Extensions::all() };
    client.handle_input(version.encode(0).into()).unwrap();
    while client.poll_transmit().is_some() {}
    client
}

/// The number that the question has which was asked last.
fn asked(client: &mut SftpClient) -> u32 {
    let mut last = 0;
    while let Some(message) = client.poll_transmit() {
        if let Ok((Some(id), _)) = SftpRequest::decode(message.get(4..).unwrap_or_default(), true) {
            last = id;
        }
    }
    last
}

fn say(client: &mut SftpClient, id: u32, response: &SftpResponse) -> Result<(), SftpError> {
    client.handle_input(response.encode(id).into())
}

fn open(client: &mut SftpClient, handle: &'static [u8]) -> Result<FileHandle, SftpError> {
    let request = SftpRequest::OpenFolder(b"/srv".to_vec());
    let ticket = client.ask(&request);
    let id = asked(client);
    say(client, id, &SftpResponse::Handle(Bytes::from_static(handle)))?;
    match client.poll_answer() {
        Some((answered, Ok(Answer::Opened(handle)))) if answered == ticket => Ok(handle),
        other => panic!("{other:?}"),
    }
}

#[test]
fn an_answer_to_nobody_or_twice_ends_the_conversation() {
    let mut client = begun();
    client.ask(&SftpRequest::Stat(b"x".to_vec()));
    let id = asked(&mut client);
    let known = SftpResponse::Attributes(Attributes::with_mode(0o644));
    say(&mut client, id, &known).unwrap();
    assert_eq!(say(&mut client, id, &known), Err(SftpError::ToNobody(id)));
    // What is said then counts for nothing.
    assert_eq!(say(&mut client, id, &known), Err(SftpError::ToNobody(id)));
    assert_eq!(client.failed(), Some(&SftpError::ToNobody(id)));
    assert_eq!(say(&mut begun(), 77, &known), Err(SftpError::ToNobody(77)));
}

#[test]
fn an_answer_must_fit_its_question() {
    let file = SftpRequest::Read { handle: Bytes::from_static(b"h"), offset: 0, len: 10 };
    let ok = SftpResponse::Status(Refusal::new(StatusCode::Ok));
    for (request, answer) in [
        (SftpRequest::Stat(b"x".to_vec()), SftpResponse::Handle(Bytes::from_static(b"h"))),
        (SftpRequest::Stat(b"x".to_vec()), ok.clone()),
        (file.clone(), ok),
        (SftpRequest::Remove(b"x".to_vec()), SftpResponse::Names(Vec::new())),
        (SftpRequest::Limits, SftpResponse::Attributes(Attributes::default())),
    ] {
        let mut client = begun();
        client.ask(&request);
        let id = asked(&mut client);
        let heard = say(&mut client, id, &answer);
        assert!(matches!(heard, Err(SftpError::OtherAnswer { .. })), "{request:?}: {heard:?}");
    }
    let mut client = begun();
    client.ask(&file);
    let id = asked(&mut client);
    let more = SftpResponse::Data(vec![Bytes::from_static(b"eleven byte")]);
    assert_eq!(say(&mut client, id, &more), Err(SftpError::TooMuch { asked: 10, came: 11 }));
}

#[test]
fn one_handle_for_two_open_files_is_no_answer() {
    let mut client = begun();
    let first = open(&mut client, b"one").unwrap();
    open(&mut client, b"two").unwrap();
    assert_eq!(open(&mut client, b"one"), Err(SftpError::HandleGivenTwice));
    // Once the first is about to be closed, its name is free.
    let mut client = begun();
    open(&mut client, b"one").unwrap();
    client.ask(&SftpRequest::close(first));
    asked(&mut client);
    assert!(open(&mut client, b"one").is_ok());
    assert_eq!(open(&mut client, &[7; 257]), Err(SftpError::HandleLength(257)));
}

/// Whoever gives up an answer leaves no file open there.
#[test]
fn what_is_given_up_is_closed_again() {
    let closes = |client: &mut SftpClient| {
        let mut closed = Vec::new();
        while let Some(message) = client.poll_transmit() {
            if let Ok((_, SftpRequest::Close(handle))) = SftpRequest::decode(&message[4..], true) {
                closed.push(handle);
            }
        }
        closed
    };
    for answered_first in [false, true] {
        let mut client = begun();
        let ticket = client.ask(&SftpRequest::OpenFolder(b"/srv".to_vec()));
        let id = asked(&mut client);
        let handle = SftpResponse::Handle(Bytes::from_static(b"one"));
        if answered_first {
            say(&mut client, id, &handle).unwrap();
            client.give_up(ticket);
        } else {
            client.give_up(ticket);
            say(&mut client, id, &handle).unwrap();
        }
        assert_eq!(closes(&mut client), [Bytes::from_static(b"one")]);
        assert_eq!(client.poll_answer(), None);
    }
}

#[test]
fn a_server_of_another_version_or_with_a_count_that_cannot_be_is_refused() {
    let mut client = SftpClient::new();
    let version = SftpResponse::Version { version: 6, extensions: Extensions::default() };
    assert_eq!(client.handle_input(version.encode(0).into()), Err(SftpError::Version(6)));
    // As many names as a number can say, in a message of nine bytes.
    let mut client = begun();
    client.ask(&SftpRequest::RealPath(b".".to_vec()));
    let id = asked(&mut client);
    let mut message = Vec::new();
    let mut body = vec![104];
    body.put_uint32(id);
    body.put_uint32(u32::MAX);
    message.put_string(&body);
    assert!(matches!(client.handle_input(message.into()), Err(SftpError::Malformed(_))));
}

#[test]
fn a_refusal_is_told_once_and_in_harmless_words() {
    let refusal = |code, message: &str| Refusal { code, message: message.to_owned() }.to_string();
    assert_eq!(refusal(StatusCode::NoSuchFile, "No such file"), "no such file");
    assert_eq!(refusal(StatusCode::PermissionDenied, ""), "permission denied");
    assert_eq!(refusal(StatusCode::Failure, "quota\x1b[2J\nerror: x"), "failure (quota␛[2J error: x)");
    assert!(refusal(StatusCode::Failure, &"w".repeat(5000)).len() < 300);
}
