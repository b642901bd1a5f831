//! Objects written in XML (MS-PSRP 2.2.5.2).

use std::collections::HashMap;
use std::sync::Arc;

use super::escape::escape;
use super::{Content, Object, ObjectId, Objects, Value};

impl Objects {
    /// A value with all that it names.
    pub fn write(&self, value: &Value) -> String {
        let mut writing =
            Writing { objects: self, out: String::new(), begun: HashMap::new(), types: Vec::new() };
        writing.value(value, None);
        writing.out
    }

    /// The first of the values, as messages have it; nothing where there is none.
    pub fn write_first(&self) -> String {
        self.roots.first().map(|root| self.write(root)).unwrap_or_default()
    }
}

struct Writing<'o> {
    objects: &'o Objects,
    out: String,
    /// Numbers of objects that were begun: they are not written twice.
    begun: HashMap<ObjectId, usize>,
    types: Vec<Arc<[String]>>,
}

impl Writing<'_> {
    fn put(&mut self, text: &str) {
        self.out.push_str(text);
    }

    /// Text that XML holds as it is, with what has a meaning there escaped.
    fn put_text(&mut self, text: &str) {
        self.out.push_str(&quick_xml::escape::escape(text));
    }

    fn open(&mut self, tag: &str, called: Option<&str>, number: Option<usize>) {
        self.put("<");
        self.put(tag);
        if let Some(called) = called {
            self.put(" N=\"");
            self.put_text(&escape(called));
            self.put("\"");
        }
        if let Some(number) = number {
            self.put(&format!(" RefId=\"{number}\""));
        }
        self.put(">");
    }

    fn close(&mut self, tag: &str) {
        self.put("</");
        self.put(tag);
        self.put(">");
    }

    fn value(&mut self, value: &Value, called: Option<&str>) {
        match value {
            Value::Nil => {
                self.open("Nil", called, None);
                self.close("Nil");
            }
            Value::Primitive(primitive) => {
                self.open(primitive.tag(), called, None);
                self.put_text(&primitive.written());
                self.close(primitive.tag());
            }
            Value::Object(id) => match (self.begun.get(id), self.objects.object(*id)) {
                (Some(number), _) => {
                    let number = Some(*number);
                    self.open("Ref", called, number);
                    self.close("Ref");
                }
                (None, Some(object)) => self.object(*id, object, called),
                // One that was never added is nothing.
                (None, None) => self.value(&Value::Nil, called),
            },
        }
    }

    fn object(&mut self, id: ObjectId, object: &Object, called: Option<&str>) {
        let number = self.begun.len();
        self.begun.insert(id, number);
        self.open("Obj", called, Some(number));
        self.type_names(&object.types);
        if let Some(text) = &object.text {
            self.open("ToString", None, None);
            self.put_text(&escape(text));
            self.close("ToString");
        }
        match &object.content {
            Content::None => {}
            Content::Primitive(primitive) => self.value(&Value::Primitive(primitive.clone()), None),
            Content::List(values) => self.values("LST", values),
            Content::Enumerable(values) => self.values("IE", values),
            Content::Stack(values) => self.values("STK", values),
            Content::Queue(values) => self.values("QUE", values),
            Content::Dictionary(entries) => {
                self.open("DCT", None, None);
                for (key, value) in entries {
                    self.open("En", None, None);
                    self.value(key, Some("Key"));
                    self.value(value, Some("Value"));
                    self.close("En");
                }
                self.close("DCT");
            }
        }
        self.named("Props", &object.properties);
        self.named("MS", &object.members);
        self.close("Obj");
    }

    fn type_names(&mut self, types: &Arc<[String]>) {
        if types.is_empty() {
            return;
        }
        if let Some(number) = self.types.iter().position(|known| known == types) {
            self.open("TNRef", None, Some(number));
            return self.close("TNRef");
        }
        self.open("TN", None, Some(self.types.len()));
        for name in types.iter() {
            self.open("T", None, None);
            self.put_text(&escape(name));
            self.close("T");
        }
        self.close("TN");
        self.types.push(types.clone());
    }

    fn values(&mut self, tag: &str, values: &[Value]) {
        self.open(tag, None, None);
        values.iter().for_each(|value| self.value(value, None));
        self.close(tag);
    }

    fn named(&mut self, tag: &str, all: &[(String, Value)]) {
        if all.is_empty() {
            return;
        }
        self.open(tag, None, None);
        all.iter().for_each(|(name, value)| self.value(value, Some(name)));
        self.close(tag);
    }
}
