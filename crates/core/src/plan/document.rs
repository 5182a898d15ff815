//! A document, parsed and validated once against a role's schema.

use std::sync::Arc;

use apollo_compiler::executable::{Operation, OperationType};
use apollo_compiler::parser::{Parser, SourceSpan};
use apollo_compiler::schema::ExtendedType;
use apollo_compiler::validation::{DiagnosticList, Valid};
use apollo_compiler::{ExecutableDocument, Node, Schema};

use super::cursor::Sealer;
use super::reads::Reads;
use super::variables::Variables;
use crate::error::{Code, Location, MOST_PROBLEMS, Problem};
use crate::suggest::did_you_mean;

/// Levels of nesting that the parser follows.
const PARSER_DEPTH: usize = 200;
/// Tokens that the parser reads.
const PARSER_TOKENS: usize = 20_000;
/// Bytes of a syntax tree with its types per byte of text: measured on documents of 1 to 20 kB.
const BYTES_PER_BYTE: usize = 30;
/// Bytes that may be kept of what planning reads of one variable that is an object, or a list of them; of how many of them; and
/// of one that is a leaf.
const BYTES_READ_OF_OBJECTS: usize = 32 << 10;
const MOST_OBJECTS: usize = 4;
const BYTES_READ_OF_LEAF: usize = 512;

/// One operation of a valid document.
#[derive(Debug)]
pub struct Document {
    pub(super) schema: Arc<Valid<Schema>>,
    pub(super) executable: Valid<ExecutableDocument>,
    pub(super) operation: Node<Operation>,
    /// What its plans read of requests.
    pub(super) reads: Reads,
    lines: Lines,
    bytes: usize,
}

impl Document {
    /// Parses and validates a document, and picks the operation.
    ///
    /// # Errors
    /// `DOCUMENT_UNREADABLE` or `DOCUMENT_INVALID`, every mistake with its place; `TOO_COSTLY` for a document that is
    /// nested too deeply or too long.
    pub fn parse(schema: &Arc<Valid<Schema>>, text: &str, operation_name: Option<&str>) -> Result<Self, Vec<Problem>> {
        let mut parser = Parser::new().recursion_limit(PARSER_DEPTH).token_limit(PARSER_TOKENS);
        let ast = parser.parse_ast(text, "document.graphql").map_err(|failure| {
            if parser.tokens_reached() >= PARSER_TOKENS || parser.recursion_reached() >= PARSER_DEPTH {
                let text = format!(
                    "the document is nested over {PARSER_DEPTH} levels or longer than {PARSER_TOKENS} tokens; ask in parts"
                );
                return vec![Problem::new(Code::TooCostly, text)];
            }
            problems(&failure.errors, Code::DocumentUnreadable, schema)
        })?;
        let executable = ast
            .to_executable_validate(schema)
            .map_err(|failure| problems(&failure.errors, Code::DocumentInvalid, schema))?;
        let operation = pick(&executable, operation_name).map_err(|problem| vec![problem])?;
        let objects = operation.variables.iter().filter(|variable| {
            let name = variable.ty.inner_named_type();
            matches!(schema.types.get(name), Some(ExtendedType::InputObject(_)))
        });
        let most_read =
            BYTES_READ_OF_OBJECTS * objects.count().min(MOST_OBJECTS) + BYTES_READ_OF_LEAF * operation.variables.len();
        Ok(Document {
            schema: Arc::clone(schema),
            operation,
            executable,
            reads: Reads::new(most_read),
            lines: Lines::of(text),
            bytes: text.len() + most_read / BYTES_PER_BYTE,
        })
    }

    /// The operation's name, where it has one.
    pub fn name(&self) -> Option<&str> {
        self.operation.name.as_ref().map(|name| name.as_str())
    }

    /// Is it a mutation?
    pub fn is_mutation(&self) -> bool {
        self.operation.operation_type == OperationType::Mutation
    }

    /// The key under which the plan for a request's variables is kept; none where it is not. It is what everything that
    /// planning has read so far answers for them: taken again after planning.
    pub fn plan_key(&self, variables: &Variables, sealer: &Sealer) -> Option<Vec<u8>> {
        self.reads.key(variables, sealer)
    }

    /// About how many bytes it holds in memory, for the cache.
    pub fn weight(&self) -> usize {
        1_000 + self.bytes * BYTES_PER_BYTE
    }

    /// The place of a node in the document.
    pub(super) fn location(&self, span: Option<SourceSpan>) -> Option<Location> {
        span.and_then(|span| self.lines.location(span.offset()))
    }
}

/// Lines and columns of a text, by offsets of bytes. Whoever asks for every field's place, in a text of one long line, must not
/// count from its beginning each time.
#[derive(Debug)]
struct Lines {
    text: String,
    /// Line and column, from 0, at every so many bytes, or at the next character after.
    marks: Vec<(usize, usize, usize)>,
}

impl Lines {
    const STEP: usize = 256;

    fn of(text: &str) -> Self {
        let (mut marks, mut line, mut column) = (Vec::new(), 0, 0);
        for (offset, character) in text.char_indices() {
            if offset >= marks.len() * Self::STEP {
                marks.push((offset, line, column));
            }
            (line, column) = Self::after(character, line, column);
        }
        Lines { text: text.to_owned(), marks }
    }

    fn after(character: char, line: usize, column: usize) -> (usize, usize) {
        if character == '\n' { (line + 1, 0) } else { (line, column + 1) }
    }

    fn location(&self, offset: usize) -> Option<Location> {
        let next = self.marks.partition_point(|(at, ..)| *at <= offset);
        let (from, line, column) = *self.marks.get(next.checked_sub(1)?)?;
        let between = self.text.get(from..offset)?;
        let (line, column) =
            between.chars().fold((line, column), |(line, column), character| Self::after(character, line, column));
        Some(Location { line: line + 1, column: column + 1 })
    }
}

fn pick(document: &Valid<ExecutableDocument>, name: Option<&str>) -> Result<Node<Operation>, Problem> {
    if let Ok(operation) = document.operations.get(name) {
        return Ok(operation.clone());
    }
    let names: Vec<&str> = document.operations.named.keys().map(|name| name.as_str()).collect();
    let text = match name {
        Some(name) => {
            format!("the document has no operation `{name}`{}", did_you_mean(name, names.iter().copied()))
        }
        None if names.is_empty() => "the document has no operation".to_owned(),
        None => format!("the document has several operations: give `operationName`, one of {}", names.join(", ")),
    };
    Err(Problem::new(Code::DocumentInvalid, text))
}

fn problems(errors: &DiagnosticList, code: Code, schema: &Schema) -> Vec<Problem> {
    errors
        .iter()
        .take(MOST_PROBLEMS)
        .map(|diagnostic| {
            let json = diagnostic.to_json();
            let text = match code {
                Code::DocumentUnreadable => syntax(&json.message),
                _ => meant(&json.message, schema),
            };
            let mut problem = Problem::new(code, text);
            problem.locations =
                json.locations.iter().map(|place| Location { line: place.line, column: place.column }).collect();
            problem
        })
        .collect()
}

/// A mistake of syntax in words: what the parser calls its tokens nobody writes.
fn syntax(message: &str) -> String {
    const TOKENS: &[(&str, &str)] = &[
        ("L_CURLY", "`{`"),
        ("R_CURLY", "`}`"),
        ("L_PAREN", "`(`"),
        ("R_PAREN", "`)`"),
        ("L_BRACK", "`[`"),
        ("R_BRACK", "`]`"),
        ("COLON", "`:`"),
        ("EQ", "`=`"),
        ("SPREAD", "`...`"),
        ("EOF", "the end of the document"),
    ];
    let said = message.trim_start_matches("syntax error: ");
    let known = |word: &str| TOKENS.iter().find(|(token, _)| *token == word).map(|(_, said)| *said);
    let words: Vec<String> = said
        .split(' ')
        .map(|word| {
            let bare = word.trim_end_matches([',', '.']);
            let end = &word[bare.len()..];
            match known(bare) {
                Some(said) => format!("{said}{end}"),
                None if bare.len() == 1 && !bare.chars().all(char::is_alphanumeric) => format!("`{bare}`{end}"),
                None => word.to_owned(),
            }
        })
        .collect();
    let said = words.join(" ").replace(", got ", ", found ");
    let remedy = match said.as_str() {
        _ if said.ends_with("the end of the document") => "; something that was opened is not closed",
        _ if said.contains("valid Value") => {
            "; a value is a number, a text in quotes, true, false, null, an enum's word, a list, an object, or a variable"
        }
        _ if said.contains("expected definition") => "; a document begins with `{`, `query`, `mutation` or `fragment`",
        _ => "",
    };
    format!("the document cannot be read: {said}{remedy}")
}

/// A mistake of meaning, with what would be right.
fn meant(message: &str, schema: &Schema) -> String {
    let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    match quoted.as_slice() {
        [argument @ ("after" | "before" | "last"), coordinate] if message.contains("is not supported by") => {
            format!(
                "`{argument}` of `{coordinate}`: its rows have no key, so that no cursor names a place among them; page with `first` \
                 and `skip`"
            )
        }
        _ if message.contains("must have a subselection set") => {
            "a field that gives an object needs a selection: say in braces which of its fields, such as `{ nodes { id } }`".to_owned()
        }
        _ => format!("{message}{}", hint(message, schema)),
    }
}

/// A near miss for a name that the schema does not have. The message names the type and what is missing in backticks.
fn hint(message: &str, schema: &Schema) -> String {
    let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    let fields_of = |name: &str| match schema.types.get(name) {
        Some(ExtendedType::Object(object)) => object.fields.keys().map(|name| name.as_str()).collect(),
        Some(ExtendedType::InputObject(input)) => input.fields.keys().map(|name| name.as_str()).collect(),
        Some(ExtendedType::Enum(e)) => e.values.keys().map(|name| name.as_str()).collect(),
        _ => Vec::new(),
    };
    match quoted.as_slice() {
        [owner, missing] if message.contains("does not have a field") => did_you_mean(missing, fields_of(owner)),
        [argument, coordinate] if message.contains("argument") => {
            let field = coordinate.split_once('.').and_then(|(owner, field)| schema.type_field(owner, field).ok());
            let names = field.map(|field| field.arguments.iter().map(|a| a.name.as_str()).collect::<Vec<_>>());
            did_you_mean(argument, names.unwrap_or_default())
        }
        [missing, owner, ..] | [owner, missing, ..] if schema.types.contains_key(*owner) => {
            did_you_mean(missing, fields_of(owner))
        }
        _ => String::new(),
    }
}

/// Is the operation that a request means a mutation? Judged by the syntax alone; false where it does not parse.
pub fn is_mutation(text: &str, operation_name: Option<&str>) -> bool {
    use apollo_compiler::ast::Definition;
    let mut parser = Parser::new().recursion_limit(PARSER_DEPTH).token_limit(PARSER_TOKENS);
    let Ok(document) = parser.parse_ast(text, "document.graphql") else { return false };
    document.definitions.iter().any(|definition| match definition {
        Definition::OperationDefinition(operation) => {
            let meant = operation_name.is_none() || operation.name.as_ref().map(|name| name.as_str()) == operation_name;
            meant && operation.operation_type == OperationType::Mutation
        }
        _ => false,
    })
}
