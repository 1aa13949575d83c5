//! The JSON Schema of the orders, made of their keys: editors check files by it. What it
//! refuses the reader refuses, too; not the other way round.

use serde_json::{Map, Value, json};

use super::at_most::Period;
use super::keys::{Key, Kind, ORDERS, PART};

/// The JSON Schema (draft 2020-12) of the orders, for a TOML file read as JSON.
pub fn schema() -> Value {
    titled(table(ORDERS), "Orders of Tipstaff")
}

/// The same of a file that orders include: a part of the keys, of which none must be there.
pub fn part_schema() -> Value {
    let keys = ORDERS.iter().filter(|key| PART.contains(&key.name));
    let properties: Map<String, Value> = keys.map(|k| (k.name.into(), property(k))).collect();
    let schema = json!({
        "type": "object",
        "properties": properties,
        "additionalProperties": false,
    });
    titled(schema, "A file that orders of Tipstaff include")
}

fn titled(mut schema: Value, title: &str) -> Value {
    if let Value::Object(object) = &mut schema {
        object.insert("$schema".into(), json!("https://json-schema.org/draft/2020-12/schema"));
        object.insert("title".into(), json!(title));
    }
    schema
}

fn table(keys: &[Key]) -> Value {
    let properties: Map<String, Value> =
        keys.iter().map(|k| (k.name.into(), property(k))).collect();
    let required: Vec<&str> = keys.iter().filter(|k| k.required).map(|k| k.name).collect();
    let mut schema = json!({
        "type": "object",
        "properties": properties,
        "required": required,
        "additionalProperties": false,
    });
    if keys.iter().any(|k| k.name == "over")
        && let Value::Object(object) = &mut schema
    {
        object.insert("dependentRequired".into(), json!({ "over": ["at_most"] }));
    }
    schema
}

fn property(key: &Key) -> Value {
    let mut schema = of_kind(&key.kind);
    if let Value::Object(object) = &mut schema {
        object.insert("description".into(), json!(key.meaning));
    }
    schema
}

/// One string or a list of them, each as a pattern has it.
fn words(pattern: Option<&str>) -> Value {
    let word = match pattern {
        Some(pattern) => json!({ "type": "string", "pattern": pattern }),
        None => json!({ "type": "string", "minLength": 1 }),
    };
    json!({ "oneOf": [word, { "type": "array", "items": word, "minItems": 1 }] })
}

/// A port, 1 to 65535.
const PORT: &str =
    "0*([1-9][0-9]{0,3}|[1-5][0-9]{4}|6[0-4][0-9]{3}|65[0-4][0-9]{2}|655[0-2][0-9]|6553[0-5])";
/// A number of an IPv4 address, and one up to 255.
const BYTE: &str = "(25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])";
/// A name that orders define: it does not begin with a digit.
const NAME: &str = "[^0-9/:#*,\\s][^/:#*,\\s]*";

/// Traffic in all spellings, some of them with commas.
fn traffic_pattern() -> String {
    let ports = format!("{PORT}(\\s*-\\s*{PORT})?");
    let kind = "([tT][cC][pP]|[uU][dD][pP])";
    let item = [
        format!("{kind}\\s*[/: ]\\s*({ports}|\\*)"),
        format!("{ports}(\\s*[/: ]\\s*{kind})?"),
        "[iI][cC][mM][pP]\\s*[/: ]\\s*([eE][cC][hH][oO]|\\*)".to_owned(),
        format!("[pP][rR][oO][tT][oO][cC][oO][lL]\\s*[/: ]\\s*0*{BYTE}"),
        format!("0*{BYTE}\\s*[/: ]\\s*[pP][rR][oO][tT][oO][cC][oO][lL]"),
        NAME.to_owned(),
    ];
    let item = format!("({})", item.join("|"));
    format!("^\\s*{item}(\\s*,\\s*{item})*\\s*$")
}

/// Addresses, prefixes, ranges, names, files and areas.
fn addresses_pattern() -> String {
    let four = format!("{BYTE}(\\.{BYTE}){{3}}");
    let six = "[0-9a-fA-F]*:[0-9a-fA-F:]*[0-9a-fA-F:.]*";
    let prefix = |most: &str, address: &str| format!("{address}(/{most})?");
    let all = [
        prefix("(3[0-2]|[12]?[0-9])", &four),
        format!("{four}\\s*-\\s*{four}"),
        prefix("(12[0-8]|1[01][0-9]|[1-9]?[0-9])", six),
        format!("{six}\\s*-\\s*{six}"),
        "file:.+".to_owned(),
        "area:[A-Za-z]{2}(-[A-Za-z0-9]{1,3})?".to_owned(),
        NAME.to_owned(),
    ];
    format!("^({})$", all.join("|"))
}

fn of_kind(kind: &Kind) -> Value {
    match kind {
        Kind::Version => json!({ "const": 1 }),
        Kind::Text => json!({ "type": "string", "minLength": 1 }),
        Kind::Words => words(None),
        Kind::Traffic => words(Some(&traffic_pattern())),
        Kind::Addresses => words(Some(&addresses_pattern())),
        Kind::Programs => words(Some(&format!("^(/.+|{NAME})$"))),
        Kind::Switch => json!({ "type": "boolean" }),
        Kind::Number(least, most) => {
            json!({ "type": "integer", "minimum": least, "maximum": most })
        }
        Kind::Moment => {
            // With its offset, or nobody knows when that is.
            let pattern = "([zZ]|[+-][0-9]{2}:[0-9]{2})$";
            json!({ "type": "string", "format": "date-time", "pattern": pattern })
        }
        Kind::Rate => {
            let periods = Period::ALL.map(Period::name).join("|");
            json!({ "type": "string", "pattern": format!("^\\s*[0-9]+\\s+per\\s+({periods})\\s+(per\\s+source|in\\s+all)\\s*(,\\s*burst\\s+[0-9]+\\s*)?$") })
        }
        Kind::OneOf(all) => json!({ "enum": all() }),
        Kind::Table(keys) => table(keys),
        Kind::Tables(keys) => json!({ "type": "array", "items": table(keys) }),
        Kind::Names(kind) => json!({ "type": "object", "additionalProperties": of_kind(kind) }),
    }
}
