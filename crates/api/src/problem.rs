//! Errors of the HTTP interface, as problem details (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{ObjectBuilder, Schema, Type};
use utoipa::{PartialSchema, ToSchema};

macro_rules! problem_types {
    ($($(#[doc = $doc:literal])+ $name:ident = $word:literal, $status:literal, $title:literal;)*) => {
        /// What sort of problem it is: a stable identifier, for programs. Each is a page of the
        /// service that says what it means.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
        pub enum ProblemType {
            $($(#[doc = $doc])+ #[serde(rename = $word)] $name,)*
            /// Nothing more than the status says (RFC 9457, section 4.2.1).
            #[serde(rename = "about:blank", other)]
            Other,
        }

        impl ProblemType {
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// The URI reference that stands for it.
            pub fn uri(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)*
                    Self::Other => "about:blank",
                }
            }

            pub fn status(self) -> u16 {
                match self {
                    $(Self::$name => $status,)*
                    Self::Other => 500,
                }
            }

            pub fn title(self) -> &'static str {
                match self {
                    $(Self::$name => $title,)*
                    Self::Other => "Error",
                }
            }

            /// What it means and what to do, for people.
            pub fn meaning(self) -> &'static str {
                match self {
                    $(Self::$name => concat!($($doc),+).trim_ascii(),)*
                    Self::Other => "Nothing more is known than the status.",
                }
            }
        }
    };
}

problem_types! {
    /// The query, the path or the body cannot be read, or has what is not known: see /openapi.json.
    Unreadable = "/problems/unreadable", 400, "It cannot be read";
    /// No valid token came along: send one, or sign in.
    NotSignedIn = "/problems/not-signed-in", 401, "Nobody is signed in";
    /// The token, or where the call comes from, does not allow this.
    NotAllowed = "/problems/not-allowed", 403, "This is not allowed";
    /// What the path names is not there.
    NotFound = "/problems/not-found", 404, "There is no such thing";
    /// The path is there, for other methods: see the header Allow.
    WrongMethod = "/problems/wrong-method", 405, "Not by this method";
    /// The cluster refuses it as things are: nothing was changed.
    Refused = "/problems/refused", 409, "The cluster refuses this";
    /// A body comes as it is, without Content-Encoding: what it unpacks to is not known before.
    Encoded = "/problems/encoded", 415, "The body is packed";
    /// It was written for a revision that is not in force any more: nothing was changed. Read the spec anew.
    OtherRevision = "/problems/other-revision", 412, "Another revision is in force";
    /// It can be read, and nothing can be made of it: a spec with errors, a list of nothing, a text with control characters.
    Unusable = "/problems/unusable", 422, "Nothing can be made of it";
    /// A change of the spec says for which revision it was written, in the header If-Match.
    NotConditional = "/problems/not-conditional", 428, "It does not say what it is based on";
    /// Too many connections of this sort are open: close some.
    TooMany = "/problems/too-many", 429, "Too many at once";
    /// Nobody can say or do it now; after a change it is not known whether it was made: look at the status.
    Unavailable = "/problems/unavailable", 503, "Nobody can answer now";
}

// The words of a macro are nothing that a derived schema could read.
impl PartialSchema for ProblemType {
    fn schema() -> RefOr<Schema> {
        let words = ProblemType::ALL.iter().chain([&ProblemType::Other]);
        ObjectBuilder::new()
            .schema_type(Type::String)
            .enum_values(Some(words.map(|kind| kind.uri())))
            .description(Some(
                "What sort of problem it is: a stable identifier, and the path of a page that says what it means.",
            ))
            .build()
            .into()
    }
}

impl ToSchema for ProblemType {}

/// An error.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    #[serde(rename = "type")]
    pub kind: ProblemType,
    pub title: String,
    pub status: u16,
    /// What, where, and what to do.
    pub detail: String,
}
