//! Objects as JSON and as text: the forms that the guide promises, and what hostile ones come to.

#![allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.

use super::*;
use crate::remoting::RemotingError;
use crate::remoting::limits::MAX_JSON;
use proptest::prelude::*;

fn read(xml: &str) -> Objects {
    Objects::read(xml).unwrap()
}

fn json(xml: &str, depth: usize) -> String {
    let objects = read(xml);
    objects.to_json(&objects.roots[0], depth).unwrap()
}

#[test]
fn every_value_has_its_form() {
    for (xml, shown, text) in [
        ("<S>a \"lamp\"_x000A_\\</S>", "\"a \\\"lamp\\\"\\n\\\\\"", "a \"lamp\"\n\\"),
        ("<S>_x001B_[2J</S>", "\"\\u001b[2J\"", "\u{1b}[2J"),
        ("<C>97</C>", "\"a\"", "a"),
        ("<B>true</B>", "true", "true"),
        ("<DT>2026-11-26T06:00:00Z</DT>", "\"2026-11-26T06:00:00Z\"", "2026-11-26T06:00:00Z"),
        ("<TS>PT9S</TS>", "\"PT9S\"", "PT9S"),
        ("<U64>18446744073709551615</U64>", "18446744073709551615", "18446744073709551615"),
        ("<I64>-9223372036854775808</I64>", "-9223372036854775808", "-9223372036854775808"),
        ("<Db>1.5</Db>", "1.5", "1.5"),
        ("<Db>NaN</Db>", "\"NaN\"", "NaN"),
        ("<Sg>-INF</Sg>", "\"-INF\"", "-INF"),
        ("<D>10.10</D>", "\"10.10\"", "10.10"),
        ("<BA>AQID</BA>", "\"AQID\"", "AQID"),
        ("<Version>6.2.1</Version>", "\"6.2.1\"", "6.2.1"),
        ("<SS>AAAA</SS>", "{\"secure\":true}", "(secure text)"),
        ("<Nil/>", "null", ""),
        (
            "<Obj><TN><T>Coast.State</T><T>System.Enum</T></TN><ToString>Lit</ToString><I32>1</I32></Obj>",
            "\"Lit\"",
            "Lit",
        ),
        // A value that has properties besides is the value.
        ("<Obj><S>lamp</S><MS><S N=\"Path\">C:</S></MS></Obj>", "\"lamp\"", "lamp"),
        ("<Obj><LST><I32>1</I32><Nil/><S>a</S></LST></Obj>", "[1,null,\"a\"]", "{1, , a}"),
        ("<Obj><QUE/></Obj>", "[]", "{}"),
        (
            "<Obj><DCT><En><S N=\"Key\">a</S><I32 N=\"Value\">1</I32></En><En><I32 N=\"Key\">2</I32><Nil N=\"Value\"/></En></DCT></Obj>",
            "{\"a\":1,\"2\":null}",
            "{a=1, 2=}",
        ),
        (
            "<Obj><Props><S N=\"Name\">x</S></Props><MS><I32 N=\"Name\">2</I32></MS></Obj>",
            "{\"Name\":\"x\",\"Name (2)\":2}",
            "{Name=x, Name=2}",
        ),
        ("<Obj><TN><T>Coast.Lamp</T></TN><ToString>lamp-01</ToString></Obj>", "\"lamp-01\"", "lamp-01"),
        ("<Obj><TN><T>Coast.Lamp</T></TN></Obj>", "\"Coast.Lamp\"", "Coast.Lamp"),
    ] {
        let objects = read(xml);
        assert_eq!(json(xml, 8), shown, "{xml}");
        assert_eq!(objects.plain_text(&objects.roots[0]), text, "{xml}");
    }
}

#[test]
fn what_is_deep_or_contains_itself_is_text() {
    let nested = "<Obj><ToString>outer</ToString><Props><Obj N=\"Inner\"><ToString>inner</ToString><Props><S N=\"A\">1</S></Props></Obj></Props></Obj>";
    assert_eq!(json(nested, 2), "{\"Inner\":{\"A\":\"1\"}}");
    assert_eq!(json(nested, 1), "{\"Inner\":\"inner\"}");
    assert_eq!(json(nested, 0), "\"outer\"");
    let circle = "<Obj RefId=\"0\"><ToString>round</ToString><MS><Ref N=\"Itself\" RefId=\"0\"/></MS></Obj>";
    assert_eq!(json(circle, 64), "{\"Itself\":\"round\"}");
    // The same twice is no circle.
    let twice =
        "<Obj><LST><Obj RefId=\"1\"><Props><I32 N=\"A\">1</I32></Props></Obj><Ref RefId=\"1\"/></LST></Obj>";
    assert_eq!(json(twice, 8), "[{\"A\":1},{\"A\":1}]");
}

#[test]
fn few_bytes_that_would_become_many_are_refused() {
    // Each level names the one below ten times.
    let mut xml = "<Obj RefId=\"0\"><LST><S>lit</S></LST></Obj>".to_owned();
    for level in 1..30 {
        let below = format!("<Ref RefId=\"{}\"/>", level - 1).repeat(9);
        xml = format!("<Obj RefId=\"{level}\"><LST>{xml}{below}</LST></Obj>");
    }
    let objects = read(&xml);
    let refused = objects.to_json(&objects.roots[0], 64).unwrap_err();
    assert_eq!(refused, RemotingError::TooMuch { what: "bytes as JSON", limit: MAX_JSON });
    assert!(objects.plain_text(&objects.roots[0]).len() < 1000);
}

fn value() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        "\\PC{0,8}".prop_map(|text| format!("<S>{}</S>", quick_xml::escape::escape(escape::escape(&text)))),
        any::<i64>().prop_map(|number| format!("<I64>{number}</I64>")),
        any::<f64>().prop_map(|number| format!("<Db>{}</Db>", if number.is_finite() { number } else { 0.5 })),
        Just("<Nil/>".to_owned()),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4)
                .prop_map(|all| format!("<Obj><LST>{}</LST></Obj>", all.concat())),
            proptest::collection::vec(inner, 1..4).prop_map(|all| {
                let named = all.iter().enumerate().map(|(at, xml)| {
                    let end = xml.find(['>', '/', ' ']).unwrap();
                    format!("{} N=\"P{at}\"{}", &xml[..end], &xml[end..])
                });
                format!("<Obj><Props>{}</Props></Obj>", named.collect::<String>())
            }),
        ]
    })
}

proptest! {
    /// Whatever it is, it is JSON, on one line, and no deeper than wanted.
    #[test]
    fn what_is_written_is_json(xml in value(), depth in 0usize..6) {
        let text = json(&xml, depth);
        let parsed: serde_json::Value = serde_json::from_str(&text).unwrap();
        prop_assert!(!text.contains('\n'));
        fn deep(value: &serde_json::Value) -> usize {
            match value {
                serde_json::Value::Array(all) => 1 + all.iter().map(deep).max().unwrap_or(0),
                serde_json::Value::Object(all) => 1 + all.values().map(deep).max().unwrap_or(0),
                _ => 0,
            }
        }
        prop_assert!(deep(&parsed) <= depth, "{}", text);
    }
}
