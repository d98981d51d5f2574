//! Whether a command's JSON is what its schema says: nothing missing, nothing that is not described.

use std::collections::BTreeSet;

use serde_json::Value;

/// What is wrong with a value, where something is. Of objects, every member has to be described. What the schema refers to
/// stands in `types`.
pub(crate) fn fault(schema: &Value, types: &Value, value: &Value) -> Option<String> {
    Described { types }.whole(schema, value, "").err()
}

struct Described<'a> {
    types: &'a Value,
}

/// The names of an object's members that are described.
type Told = BTreeSet<String>;

impl Described<'_> {
    /// A value by itself: what nothing describes is a fault.
    fn whole(&self, schema: &Value, value: &Value, at: &str) -> Result<(), String> {
        let told = self.part(schema, value, at)?;
        let names = value.as_object().into_iter().flat_map(|members| members.keys());
        match names.into_iter().find(|name| !told.contains(*name)) {
            Some(name) => Err(format!("{at}/{name} is not described")),
            None => Ok(()),
        }
    }

    /// A value by one schema of several that may speak of it.
    fn part(&self, schema: &Value, value: &Value, at: &str) -> Result<Told, String> {
        let schema = match schema {
            Value::Bool(true) => {
                let members = value.as_object().into_iter().flat_map(|members| members.keys());
                return Ok(members.cloned().collect());
            }
            Value::Object(schema) => schema,
            _ => return Err(format!("{at} is described by {schema}")),
        };
        let mut told = Told::new();
        for (keyword, said) in schema {
            match keyword.as_str() {
                "$ref" => {
                    let (_, pointer) = said.as_str().unwrap().split_once('#').unwrap();
                    let meant = self.types.pointer(pointer).unwrap_or_else(|| panic!("{pointer}"));
                    told.extend(self.part(meant, value, at)?);
                }
                "type" => self.is_of_type(said, value, at)?,
                "const" if said != value => return Err(format!("{at} is {value}, not {said}")),
                "enum" if !said.as_array().unwrap().contains(value) => {
                    return Err(format!("{at} is {value}, none of {said}"));
                }
                "properties" => {
                    for (name, schema) in said.as_object().unwrap() {
                        if let Some(member) = value.get(name) {
                            self.whole(schema, member, &format!("{at}/{name}"))?;
                            told.insert(name.clone());
                        }
                    }
                }
                "required" if value.is_object() => {
                    let names = said.as_array().unwrap().iter().map(|name| name.as_str().unwrap());
                    if let Some(name) = names.into_iter().find(|name| value.get(name).is_none()) {
                        return Err(format!("{at}/{name} is missing"));
                    }
                }
                "additionalProperties" => {
                    let described = schema.get("properties").and_then(Value::as_object);
                    let is_described =
                        |name: &str| described.is_some_and(|all| all.contains_key(name));
                    for (name, member) in value.as_object().into_iter().flatten() {
                        if !is_described(name) && *said != Value::Bool(false) {
                            self.whole(said, member, &format!("{at}/{name}"))?;
                            told.insert(name.clone());
                        }
                    }
                }
                "items" => {
                    let first =
                        schema.get("prefixItems").and_then(Value::as_array).map_or(0, Vec::len);
                    for (index, item) in
                        value.as_array().into_iter().flatten().enumerate().skip(first)
                    {
                        self.whole(said, item, &format!("{at}/{index}"))?;
                    }
                }
                "prefixItems" => {
                    let items = value.as_array().into_iter().flatten();
                    for (index, (schema, item)) in
                        said.as_array().unwrap().iter().zip(items).enumerate()
                    {
                        self.whole(schema, item, &format!("{at}/{index}"))?;
                    }
                }
                "allOf" => {
                    for schema in said.as_array().unwrap() {
                        told.extend(self.part(schema, value, at)?);
                    }
                }
                "anyOf" | "oneOf" => {
                    let tried = said.as_array().unwrap().iter();
                    let tried: Vec<_> = tried.map(|schema| self.part(schema, value, at)).collect();
                    let faults = || tried.iter().filter_map(|one| one.as_ref().err().cloned());
                    // The first that goes deepest is the likeliest to be the one meant.
                    let fault = faults().max_by_key(|fault| {
                        fault.split(' ').next().map_or(0, |path| path.matches('/').count())
                    });
                    let fits: Vec<Told> =
                        tried.iter().filter_map(|one| one.as_ref().ok().cloned()).collect();
                    if fits.is_empty() {
                        return Err(fault.unwrap_or_else(|| format!("{at} fits nothing")));
                    }
                    told.extend(fits.into_iter().flatten());
                }
                "minimum" if value.is_number() && value.as_f64() < said.as_f64() => {
                    return Err(format!("{at} is {value}, less than {said}"));
                }
                "maximum" if value.is_number() && value.as_f64() > said.as_f64() => {
                    return Err(format!("{at} is {value}, more than {said}"));
                }
                "minItems"
                    if value
                        .as_array()
                        .is_some_and(|items| (items.len() as u64) < said.as_u64().unwrap()) =>
                {
                    return Err(format!("{at} has too few items"));
                }
                _ => {}
            }
        }
        Ok(told)
    }

    fn is_of_type(&self, said: &Value, value: &Value, at: &str) -> Result<(), String> {
        let is = |name: &Value| match name.as_str().unwrap() {
            "null" => value.is_null(),
            "boolean" => value.is_boolean(),
            "integer" => value.is_i64() || value.is_u64(),
            "number" => value.is_number(),
            "string" => value.is_string(),
            "array" => value.is_array(),
            "object" => value.is_object(),
            other => panic!("there is no type {other}"),
        };
        let names = said.as_array().map_or_else(|| std::slice::from_ref(said), Vec::as_slice);
        match names.iter().any(is) {
            true => Ok(()),
            false => Err(format!("{at} is {value}, no {said}")),
        }
    }
}
