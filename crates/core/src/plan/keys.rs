//! The keys of a plan, each in one place.
//!
//! [`plan_keys!`] takes a table of keys and makes of it the struct that a plan file is read into, the descriptors
//! in `KEYS` (from which the command line, the docs and the comments of written plans come), and the methods that
//! merge, list and fill the keys. To add a key, add it to its table in [`document`](super::document).

use super::{Text, Texts};

/// A key of a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlanKey {
    /// Its name in a plan file, such as `when_duplicate`.
    pub name: &'static str,
    /// The type of its value.
    pub holds: Holds,
    /// The name of its value in help texts, such as `RULE`; empty for a flag.
    pub form: &'static str,
    /// Its purpose, in whole sentences. Names of keys are in backticks.
    pub about: &'static str,
}

/// The type of a key's value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// One text.
    Text,
    /// One text or several.
    Texts,
    /// `true` or `false`.
    Flag,
    /// A whole number.
    Number,
}

/// A value of a key.
pub(super) trait PlanValue: PartialEq + Default {
    const HOLDS: Holds;

    /// Whether the plan has the key.
    fn is_set(&self) -> bool;

    /// The value in TOML; `None` when it is not set.
    fn to_toml(&self) -> Option<toml::Value>;

    /// Adds a value that was typed. Returns `false` when it holds a single value and has one already.
    fn add(&mut self, typed: &str) -> bool;

    /// The texts that it holds.
    fn texts(&self) -> Vec<&Text> {
        Vec::new()
    }

    /// The texts that it holds, to be changed.
    fn texts_mut(&mut self) -> Vec<&mut Text> {
        Vec::new()
    }
}

impl PlanValue for Text {
    const HOLDS: Holds = Holds::Text;

    fn is_set(&self) -> bool {
        !self.text.is_empty()
    }

    fn to_toml(&self) -> Option<toml::Value> {
        Some(self.text.clone().into())
    }

    fn add(&mut self, typed: &str) -> bool {
        let is_free = !self.is_set();
        if is_free {
            *self = Self::typed(typed);
        }
        is_free
    }

    fn texts(&self) -> Vec<&Text> {
        vec![self]
    }

    fn texts_mut(&mut self) -> Vec<&mut Text> {
        vec![self]
    }
}

impl PlanValue for Option<Text> {
    const HOLDS: Holds = Holds::Text;

    fn is_set(&self) -> bool {
        self.is_some()
    }

    fn to_toml(&self) -> Option<toml::Value> {
        self.as_ref()?.to_toml()
    }

    fn add(&mut self, typed: &str) -> bool {
        let is_free = self.is_none();
        self.get_or_insert_with(|| Text::typed(typed));
        is_free
    }

    fn texts(&self) -> Vec<&Text> {
        self.iter().collect()
    }

    fn texts_mut(&mut self) -> Vec<&mut Text> {
        self.iter_mut().collect()
    }
}

impl PlanValue for Texts {
    const HOLDS: Holds = Holds::Texts;

    fn is_set(&self) -> bool {
        !self.is_empty()
    }

    fn to_toml(&self) -> Option<toml::Value> {
        match &self.0[..] {
            [] => None,
            [one] => one.to_toml(),
            several => Some(toml::Value::Array(several.iter().filter_map(Text::to_toml).collect())),
        }
    }

    fn add(&mut self, typed: &str) -> bool {
        self.0.push(Text::typed(typed));
        true
    }

    fn texts(&self) -> Vec<&Text> {
        self.0.iter().collect()
    }

    fn texts_mut(&mut self) -> Vec<&mut Text> {
        self.0.iter_mut().collect()
    }
}

impl PlanValue for Option<bool> {
    const HOLDS: Holds = Holds::Flag;

    fn is_set(&self) -> bool {
        self.is_some()
    }

    fn to_toml(&self) -> Option<toml::Value> {
        self.map(toml::Value::from)
    }

    /// A flag is typed by its name, whatever its value.
    fn add(&mut self, _: &str) -> bool {
        *self = Some(true);
        true
    }
}

/// Numbers, which are checked when they are typed.
macro_rules! number_value {
    ($number:ty) => {
        impl PlanValue for Option<$number> {
            const HOLDS: Holds = Holds::Number;

            fn is_set(&self) -> bool {
                self.is_some()
            }

            fn to_toml(&self) -> Option<toml::Value> {
                i64::try_from((*self)?).ok().map(toml::Value::from)
            }

            fn add(&mut self, typed: &str) -> bool {
                let is_free = self.is_none();
                self.get_or_insert_with(|| typed.parse().unwrap_or_default());
                is_free
            }
        }
    };
}

number_value!(u16);
number_value!(u64);

/// Expands to the code only for a `path` marker.
macro_rules! if_path {
    (path, $($code:tt)*) => { $($code)* };
    (headers, $($code:tt)*) => {};
}

/// Expands to the code only for a `headers` marker.
macro_rules! if_headers {
    (headers, $($code:tt)*) => { $($code)* };
    (path, $($code:tt)*) => {};
}

/// Makes a struct of a table of keys. Each key is written as
///
/// ```text
/// /// What it is for.
/// @[attributes of the field]
/// name: Type = "FORM", marker;
/// ```
///
/// where the attributes, the form and the marker may be left out. The marker `path` says that the texts are paths, `headers`
/// that they contain headers. Fields after `holding` are not keys.
macro_rules! plan_keys {
    (
        $(#[doc = $title:literal])+
        $(@[$($struct_attribute:tt)*])?
        pub struct $name:ident {
            $(
                $(#[doc = $about:literal])+
                $(@[$($attribute:tt)*])?
                $field:ident: $type:ty $(= $form:literal)? $(, $marker:ident)?;
            )+
        }
        $(holding { $($rest:tt)* })?
    ) => {
        $(#[doc = $title])+
        #[derive(Debug, Clone, Default, PartialEq, serde::Deserialize, schemars::JsonSchema)]
        #[serde(deny_unknown_fields)]
        $(#[$($struct_attribute)*])?
        pub struct $name {
            $(
                $(#[doc = $about])+
                $(#[$($attribute)*])?
                pub $field: $type,
            )+
            $($($rest)*)?
        }

        impl $name {
            /// Its keys, in the order in which a plan is written.
            pub const KEYS: &'static [$crate::plan::PlanKey] = &[$(
                $crate::plan::PlanKey {
                    name: stringify!($field),
                    holds: <$type as $crate::plan::keys::PlanValue>::HOLDS,
                    form: concat!($($form)?),
                    about: concat!($($about),+),
                },
            )+];

            /// Adds a typed value to a key, by its name. Returns `false` when there is no such key, or when it has a
            /// value already and holds only one.
            pub fn add(&mut self, key: &str, typed: &str) -> bool {
                match key {
                    $(stringify!($field) => self.$field.add(typed),)+
                    _ => false,
                }
            }

            /// Replaces each key that `typed` sets. Returns the names of the keys that had another value.
            pub(super) fn replace_keys(&mut self, typed: &mut Self) -> Vec<&'static str> {
                let mut replaced = Vec::new();
                $(
                    if typed.$field.is_set() {
                        if self.$field.is_set() && self.$field != typed.$field {
                            replaced.push(stringify!($field));
                        }
                        self.$field = std::mem::take(&mut typed.$field);
                    }
                )+
                replaced
            }

            /// The keys that are set, with their values.
            pub(super) fn values(&self) -> Vec<(&'static $crate::plan::PlanKey, toml::Value)> {
                let values = [$(self.$field.to_toml(),)+];
                let set = Self::KEYS.iter().zip(values);
                set.filter_map(|(key, value)| Some((key, value?))).collect()
            }

            /// The texts that are paths.
            pub(super) fn path_texts(&mut self) -> Vec<&mut $crate::plan::Text> {
                #[allow(unused_mut)]
                let mut all = Vec::new();
                $($(if_path!($marker, all.extend(self.$field.texts_mut()););)?)+
                all
            }

            /// The texts that contain headers.
            pub fn header_texts(&self) -> Vec<&$crate::plan::Text> {
                #[allow(unused_mut)]
                let mut all = Vec::new();
                $($(if_headers!($marker, all.extend(self.$field.texts()););)?)+
                all
            }
        }
    };
}

pub(super) use {if_headers, if_path, plan_keys};
