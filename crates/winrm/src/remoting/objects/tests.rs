//! Objects in both directions, by hand and by chance, and what hostile ones come to.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

use super::*;
use crate::remoting::RemotingError;
use crate::remoting::limits::{MAX_NESTING, MAX_TYPES, MAX_VALUES};
use proptest::prelude::*;

fn text(text: &str) -> Value {
    Value::Primitive(Primitive::String(text.into()))
}

fn read(xml: &str) -> Objects {
    Objects::read(xml).unwrap_or_else(|error| panic!("{error}: {xml}"))
}

fn refused(xml: &str) -> RemotingError {
    Objects::read(xml).unwrap_err()
}

#[test]
fn every_primitive_is_read() {
    for (xml, expected) in [
        ("<S>the lamp &amp; the <![CDATA[<tide>]]></S>", Primitive::String("the lamp & the <tide>".into())),
        ("<S> a_x000A_b </S>", Primitive::String(" a\nb ".into())),
        ("<S/>", Primitive::String(String::new())),
        ("<C>97</C>", Primitive::Char(97)),
        ("<B>true</B>", Primitive::Bool(true)),
        ("<DT>2026-11-26T06:00:00.1+01:00</DT>", Primitive::DateTime("2026-11-26T06:00:00.1+01:00".into())),
        ("<TS>PT9.03S</TS>", Primitive::Duration("PT9.03S".into())),
        ("<By>254</By>", Primitive::U8(254)),
        ("<SB>-127</SB>", Primitive::I8(-127)),
        ("<U16>65535</U16>", Primitive::U16(65535)),
        ("<I16>-16767</I16>", Primitive::I16(-16767)),
        ("<U32>4294967295</U32>", Primitive::U32(u32::MAX)),
        ("<I32>-2147483648</I32>", Primitive::I32(i32::MIN)),
        ("<U64>18446744073709551615</U64>", Primitive::U64(u64::MAX)),
        ("<I64>-9223372036854775808</I64>", Primitive::I64(i64::MIN)),
        ("<Sg>12.5</Sg>", Primitive::Single(12.5)),
        ("<Db>1.7976931348623157E+308</Db>", Primitive::Double(f64::MAX)),
        ("<Db>-INF</Db>", Primitive::Double(f64::NEG_INFINITY)),
        ("<D>1.5</D>", Primitive::Decimal("1.5".into())),
        ("<BA>AQID\n</BA>", Primitive::Bytes(vec![1, 2, 3])),
        (
            "<G>792e5b37-4505-47ef-b7d2-8711bb7affa8</G>",
            Primitive::Guid("792e5b37-4505-47ef-b7d2-8711bb7affa8".into()),
        ),
        ("<URI>http://192.0.2.7/</URI>", Primitive::Uri("http://192.0.2.7/".into())),
        ("<Version>6.2.1.3</Version>", Primitive::Version("6.2.1.3".into())),
        ("<XD>&lt;a/&gt;</XD>", Primitive::Xml("<a/>".into())),
        ("<SBK>get-command</SBK>", Primitive::Script("get-command".into())),
        ("<SS>bnVsbA==</SS>", Primitive::Secure("bnVsbA==".into())),
    ] {
        assert_eq!(read(xml).roots, [Value::Primitive(expected)], "{xml}");
    }
    assert_eq!(read("<Nil />").roots, [Value::Nil]);
    for wrong in ["<C>x</C>", "<B>yes</B>", "<By>256</By>", "<I32>1.5</I32>", "<BA>!</BA>", "<Db>x</Db>"] {
        assert_eq!(refused(wrong), RemotingError::Objects("a value is not of its kind".into()), "{wrong}");
    }
}

#[test]
fn an_object_is_read_with_all_its_parts() {
    let xml = r#"<?xml version="1.0"?><Objs Version="1.1.0.1" xmlns="http://schemas.microsoft.com/powershell/2004/04">
 <Obj RefId="0">
  <TN RefId="0"><T>Coast.Lamp</T><T>System.Object</T></TN>
  <ToString>lamp-01</ToString>
  <Props>
   <S N="Name">lamp-01</S>
   <I32 N="Watts">40</I32>
   <Obj N="State" RefId="1"><TN RefId="1"><T>Coast.State</T><T>System.Enum</T></TN><ToString>Lit</ToString><I32>1</I32></Obj>
   <Obj N="Tides" RefId="2"><TNRef RefId="0" /><LST><S>high</S><Nil /><Ref RefId="1" /></LST></Obj>
  </Props>
  <MS><Ref N="Itself" RefId="0" /></MS>
 </Obj>
 <Obj RefId="3"><DCT><En><S N="Key">a</S><I32 N="Value">1</I32></En><En><I32 N="Key">2</I32><Nil N="Value"/></En></DCT></Obj>
 <S>behind</S>
</Objs>"#;
    let objects = read(xml);
    assert_eq!((objects.roots.len(), &objects.roots[2]), (3, &text("behind")));
    let lamp = objects.of(&objects.roots[0]).unwrap();
    assert_eq!((lamp.types[0].as_str(), lamp.text.as_deref()), ("Coast.Lamp", Some("lamp-01")));
    // Names differ by letters and not by their size.
    assert_eq!(lamp.get("watts"), Some(&Value::Primitive(Primitive::I32(40))));
    assert_eq!(lamp.get("itself"), Some(&objects.roots[0]));
    let state = objects.of(lamp.get("State").unwrap()).unwrap();
    assert_eq!(
        (&state.content, state.text.as_deref()),
        (&Content::Primitive(Primitive::I32(1)), Some("Lit"))
    );
    let tides = objects.of(lamp.get("Tides").unwrap()).unwrap();
    let Content::List(values) = &tides.content else { panic!("{tides:?}") };
    assert_eq!((values.len(), &values[2]), (3, lamp.get("State").unwrap()));
    assert_eq!(tides.types, lamp.types);
    let Content::Dictionary(entries) = &objects.of(&objects.roots[1]).unwrap().content else { panic!() };
    assert_eq!(entries[0], (text("a"), Value::Primitive(Primitive::I32(1))));
    // Written, and read again, it is the same.
    for root in &objects.roots {
        let again = read(&objects.write(root));
        assert_eq!(again.write(&again.roots[0]), objects.write(root));
    }
}

#[test]
fn what_nobody_knows_is_kept_as_it_is() {
    let objects =
        read(r#"<PR N="Record"><AV>Counting lamps</AV><AI>0</AI><PI>-1</PI><I32 N="PC">20</I32></PR>"#);
    let record = objects.of(&objects.roots[0]).unwrap();
    assert_eq!(record.types[..], ["PR".to_owned()]);
    assert_eq!(objects.of(record.get("AV").unwrap()).unwrap().text.as_deref(), Some("Counting lamps"));
    assert_eq!(record.get("PC"), Some(&Value::Primitive(Primitive::I32(20))));
}

#[test]
fn what_is_hostile_is_refused() {
    let within = |count: usize| {
        let open: String = (0..count).map(|n| format!("<Obj RefId=\"{n}\"><LST>")).collect();
        open + &"</LST></Obj>".repeat(count)
    };
    read(&within(MAX_NESTING));
    assert!(matches!(refused(&within(MAX_NESTING + 1)), RemotingError::TooMuch { .. }));
    let strange = "<X>".repeat(MAX_NESTING + 1) + &"</X>".repeat(MAX_NESTING + 1);
    assert!(matches!(refused(&strange), RemotingError::TooMuch { .. }));
    let many = format!("<Obj RefId=\"0\"><LST>{}</LST></Obj>", "<Nil/>".repeat(MAX_VALUES));
    assert_eq!(refused(&many), RemotingError::TooMuch { what: "values", limit: MAX_VALUES });
    let types = format!("<Obj RefId=\"0\"><TN RefId=\"0\">{}</TN></Obj>", "<T>a</T>".repeat(MAX_TYPES + 1));
    assert!(matches!(refused(&types), RemotingError::TooMuch { .. }));
    for (xml, why) in [
        ("<!DOCTYPE a><S/>", "document type"),
        ("<S>&lamp;</S>", "entity"),
        ("<Ref RefId=\"0\"/>", "not there"),
        ("<Obj RefId=\"0\"><TNRef RefId=\"7\"/></Obj>", "not there"),
        ("<Obj RefId=\"x\"/>", "no number"),
        ("<S><S/></S>", "where text should"),
        ("<Obj><LST>x</LST></Obj>", "where values should"),
        ("<Obj><Obj/></Obj>", "whole of another"),
        ("<Obj><DCT><S/></DCT></Obj>", "else than entries"),
        ("<Obj><DCT><En><S N=\"Value\"/></En></DCT></Obj>", "no key"),
        ("<S/><S/>", "behind its end"),
        ("<Objs><S/>", "early"),
        ("<Obj>", "early"),
        ("x", "between values"),
    ] {
        let told = refused(xml).to_string();
        assert!(told.contains(why), "{xml}: {told}");
    }
    // Of objects that share others a million times over, each is there once.
    let mut bomb = String::from("<Obj RefId=\"0\"><LST><Obj N=\"a\" RefId=\"1\"><LST/></Obj></LST></Obj>");
    for level in 2..40 {
        let before = level - 1;
        bomb += &format!(
            "<Obj RefId=\"{level}\"><LST><Ref RefId=\"{before}\"/><Ref RefId=\"{before}\"/></LST></Obj>"
        );
    }
    let objects = read(&format!("<Objs>{bomb}</Objs>"));
    assert!(objects.write(objects.roots.last().unwrap()).len() < 10_000);
}

/// Values by chance, with objects that name each other in any way.
fn objects() -> impl Strategy<Value = Objects> {
    let primitive = prop_oneof![
        ".{0,12}".prop_map(Primitive::String),
        "(_x00|\\pC|[a-z_]){0,6}".prop_map(Primitive::Script),
        any::<u16>().prop_map(Primitive::Char),
        any::<bool>().prop_map(Primitive::Bool),
        any::<i64>().prop_map(Primitive::I64),
        any::<u8>().prop_map(Primitive::U8),
        proptest::num::f64::NORMAL.prop_map(Primitive::Double),
        proptest::num::f32::NORMAL.prop_map(Primitive::Single),
        proptest::collection::vec(any::<u8>(), 0..20).prop_map(Primitive::Bytes),
    ];
    let value = prop_oneof![
        1 => Just(Value::Nil),
        4 => primitive.prop_map(Value::Primitive),
        2 => (0usize..5).prop_map(|number| Value::Object(ObjectId(number))),
    ];
    let values = proptest::collection::vec(value.clone(), 0..4);
    let named = proptest::collection::vec(("\\PC{0,6}", value.clone()), 0..3);
    let content = prop_oneof![
        Just(Content::None),
        any::<i32>().prop_map(|number| Content::Primitive(Primitive::I32(number))),
        values.clone().prop_map(Content::List),
        values.clone().prop_map(Content::Queue),
        proptest::collection::vec((value.clone(), value.clone()), 0..3).prop_map(Content::Dictionary),
    ];
    let types = proptest::collection::vec("[A-Z][a-z.]{0,5}", 0..3);
    let object = (types, proptest::option::of("\\PC{0,8}"), content, named.clone(), named).prop_map(
        |(types, text, content, properties, members)| Object {
            types: types.into(),
            text,
            content,
            properties,
            members,
        },
    );
    (proptest::collection::vec(object, 5), value).prop_map(|(all, root)| Objects { roots: vec![root], all })
}

/// Whether two values are the same, however their objects are kept; `met` are those that are taken for each other.
fn is_same(one: (&Objects, &Value), other: (&Objects, &Value), met: &mut Vec<(ObjectId, ObjectId)>) -> bool {
    let (Value::Object(a), Value::Object(b)) = (one.1, other.1) else { return one.1 == other.1 };
    if met.iter().any(|(x, y)| x == a || y == b) {
        return met.contains(&(*a, *b));
    }
    met.push((*a, *b));
    let (x, y) = (one.0.object(*a).unwrap(), other.0.object(*b).unwrap());
    let mut all = |left: &[&Value], right: &[&Value]| {
        left.len() == right.len()
            && left.iter().zip(right).all(|(left, right)| is_same((one.0, left), (other.0, right), met))
    };
    let names = |named: &[(String, Value)]| named.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
    // In the order in which they are written.
    let is_content = match (&x.content, &y.content) {
        (Content::List(a), Content::List(b)) | (Content::Queue(a), Content::Queue(b)) => {
            all(&a.iter().collect::<Vec<_>>(), &b.iter().collect::<Vec<_>>())
        }
        (Content::Dictionary(a), Content::Dictionary(b)) => {
            let both = |entries: &[(Value, Value)]| {
                entries.iter().flat_map(|(key, value)| [key.clone(), value.clone()]).collect::<Vec<_>>()
            };
            let (a, b) = (both(a), both(b));
            all(&a.iter().collect::<Vec<_>>(), &b.iter().collect::<Vec<_>>())
        }
        (a, b) => a == b,
    };
    let mut is_named = |a: &[(String, Value)], b: &[(String, Value)]| {
        let values =
            |named: &[(String, Value)]| named.iter().map(|(_, value)| value.clone()).collect::<Vec<_>>();
        let (left, right) = (values(a), values(b));
        names(a) == names(b) && all(&left.iter().collect::<Vec<_>>(), &right.iter().collect::<Vec<_>>())
    };
    x.types == y.types
        && x.text == y.text
        && is_content
        && is_named(&x.properties, &y.properties)
        && is_named(&x.members, &y.members)
}

proptest! {
    #[test]
    fn what_is_written_is_read_again(objects in objects()) {
        let xml = objects.write_first();
        let again = read(&xml);
        prop_assert!(is_same((&objects, &objects.roots[0]), (&again, &again.roots[0]), &mut Vec::new()), "{}", xml);
        prop_assert_eq!(again.write_first(), xml);
    }

    #[test]
    fn nothing_makes_it_panic(bytes in "([<>/]|Obj|Objs|Ref|S|LST|DCT|En|TN| RefId=\"[0-3]\"| N=\"a\"|&lt;|_x00|a|\\PC){0,40}", objects in objects(), at: prop::sample::Index, byte: u8) {
        let _ = Objects::read(&bytes);
        let mut xml = objects.write_first().into_bytes();
        let at = at.index(xml.len());
        xml[at] = byte;
        if let Ok(text) = std::str::from_utf8(&xml) {
            let _ = Objects::read(text);
        }
    }
}
