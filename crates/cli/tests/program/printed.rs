//! What commands print for programs: JSON as its schemas say, on standard output, and exit statuses.

use gather_keys_core::report::{
    Document, KeySplit, KeyTested, Proposal, Records, Report, RowTrace, SurveyTold,
};
use serde_json::Value;

use super::scene::{ON_HIVES, Scene, snapshot};

/// The schemas of printed JSON, each with the name of its file.
pub(crate) fn schemas() -> [(&'static str, String); 7] {
    [
        ("report", Report::schema()),
        ("survey", SurveyTold::schema()),
        ("suggest", Proposal::schema()),
        ("why", RowTrace::schema()),
        ("find", Records::schema()),
        ("key-test", KeyTested::schema()),
        ("key-split", KeySplit::schema()),
    ]
}

/// Checks a value by a schema: its types, and that it has the properties that the schema has and no others.
fn check(value: &Value, schema: &Value, whole: &Value, place: &str) {
    if let Some(name) = schema["$ref"].as_str() {
        let found = whole.pointer(name.trim_start_matches('#')).unwrap();
        return check(value, found, whole, place);
    }
    if let Some(any) = schema["anyOf"].as_array() {
        let some = any.iter().find(|one| one["type"] != "null");
        if !value.is_null() {
            check(value, some.unwrap(), whole, place);
        }
        return;
    }
    let types: Vec<&str> = match &schema["type"] {
        Value::String(one) => vec![one],
        Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
        other => panic!("{place}: {other}"),
    };
    let is = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    assert!(types.contains(&is), "{place} is {is}, not {types:?}");
    for (nth, item) in value.as_array().into_iter().flatten().enumerate() {
        let of = schema["prefixItems"].get(nth).unwrap_or(&schema["items"]);
        check(item, of, whole, &format!("{place}[{nth}]"));
    }
    let Some(object) = value.as_object() else { return };
    let Some(properties) = schema["properties"].as_object() else {
        let of = &schema["additionalProperties"];
        let texts = serde_json::json!({ "type": "string" });
        let of = if of == true { &texts } else { of };
        return object.values().for_each(|item| check(item, of, whole, place));
    };
    let keys = |object: &serde_json::Map<String, Value>| -> Vec<String> {
        let mut keys: Vec<String> = object.keys().cloned().collect();
        keys.sort();
        keys
    };
    assert_eq!(keys(object), keys(properties), "{place}");
    for (key, item) in object {
        check(item, &properties[key], whole, &format!("{place}.{key}"));
    }
}

/// Calls that print JSON, each with the schema that it follows and its exit status.
const CALLS: [(&str, &str, i32); 15] = [
    ("report", "check harvest.csv ON --report -", 0),
    ("report", "check harvest.csv ON --report - --require 'unmatched = 0'", 1),
    ("report", "enrich harvest.csv ON --take Keeper --report - -o out.csv", 0),
    ("survey", "survey hives.csv harvest.csv --as json", 0),
    ("suggest", "suggest harvest.csv hives.csv --as json --save-plan p.toml", 0),
    ("suggest", "suggest harvest.csv numbers.csv --as json", 1),
    ("why", "why harvest.csv ON --take Keeper --row 4 --as json", 0),
    ("why", "why harvest.csv ON --key Fellside H-003 --as json", 0),
    (
        "why",
        "why harvest.csv --from hives.csv --on 'Hive | number = Tag' --update 'Note = Line' --row 2 --as json",
        0,
    ),
    ("find", "find hives.csv Goldsedge --take 'Tag, Line' --as json", 0),
    ("find", "find hives.csv Nobody --as json", 1),
    ("key-test", "key test hives.csv 'Site code, Tag' --as json", 0),
    ("key-test", "key test hives.csv 'Tag | number' --as json --require 'malformed = 0'", 1),
    ("key-split", "key split labels.csv '{Site}/{Tag}' --column Label --as json -o parts.csv", 0),
    (
        "key-split",
        "key split labels.csv '{Site}/{Tag}' --column Label --as json -o x.csv --require 'not fitting = 0'",
        1,
    ),
];

fn scene() -> Scene {
    Scene::new()
        .with("numbers.csv", "No,Weight\n991,15.5\n992,16.5\n993,17.5\n")
        .with("labels.csv", "Label\nFellside/H-001\nLarkfield\n\nA/B/C\n")
}

#[test]
fn json_is_as_its_schema_says() {
    let scene = scene();
    let mut text = String::new();
    for (name, call, status) in CALLS {
        let call = call.replace("ON", ON_HIVES);
        let ran = scene.run(&call).ended(status);
        let printed: Value = serde_json::from_str(&ran.out)
            .unwrap_or_else(|error| panic!("{call}: {error}: {}", ran.out));
        let schema = schemas().into_iter().find(|(other, _)| *other == name).unwrap().1;
        let schema: Value = serde_json::from_str(&schema).unwrap();
        check(&printed, &schema, &schema, name);
        if name != "report" {
            text += &format!("$ gather-keys {call}\n{}\n", ran.out);
        }
    }
    snapshot("printed", &text);
    assert!(scene.path("out.csv").exists() && scene.path("p.toml").exists());
    assert!(scene.path("parts.csv").exists() && !scene.path("x.csv").exists());
}

/// A report on standard output leaves that to it: the summary is on standard error.
#[test]
fn standard_output_has_one_thing() {
    let scene = scene();
    let ran = scene.run(&format!("check harvest.csv {ON_HIVES} --report -")).ended(0);
    assert!(ran.out.starts_with('{') && ran.err.contains("unmatched"), "{}", ran.err);
    let mut said = String::new();
    for call in [
        format!("enrich harvest.csv {ON_HIVES} --take Keeper --report -"),
        "key split labels.csv '{Site}/{Tag}' --column Label --as json".to_owned(),
        "key test hives.csv 'Site code = Tag'".to_owned(),
        "key split labels.csv '{Site}/{Tag}' --column Label --require 'splits = 0'".to_owned(),
        "survey hives.csv --as yaml".to_owned(),
    ] {
        let ran = scene.run(&call).ended(2);
        assert_eq!(ran.out, "", "{call}");
        said += &ran.err;
    }
    snapshot("printed-refused", &said);
}

/// The lists of a tested key, and the gates of a split one.
#[test]
fn keys_have_lists_and_gates() {
    let scene = scene();
    let ran = scene.run("key test hives.csv 'Site code, Tag | number' --lists found").ended(0);
    let lists = ["repeated.csv", "blank-key.csv", "malformed.csv"]
        .map(|name| format!("{name}\n{}", scene.read(&format!("found/{name}"))));
    snapshot("key-lists", &format!("{}\n{}", ran.out, lists.join("\n")));
    scene.run("key test hives.csv Tag --lists found").ended(2);
    scene.run("key test hives.csv Tag --lists found --overwrite").ended(0);
    let split = "key split labels.csv '{Site}/{Tag}' --column Label";
    let held =
        scene.run(&format!("{split} --require 'not-fitting <= 30%' --require 'many ways = 0'"));
    let held = held.ended(1);
    assert_eq!(held.out, "");
    let wide = scene.run(&format!("{split} --require 'not fitting <= 40%'")).ended(0);
    assert!(
        wide.out.starts_with("Label,Site,Tag\nFellside/H-001,Fellside,H-001\n"),
        "{}",
        wide.out
    );
    snapshot("key-split-gates", &format!("{}\n{}", held.err, wide.err));
}
