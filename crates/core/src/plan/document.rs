//! A document, parsed and validated once against a role's schema.

use std::collections::BTreeSet;
use std::sync::Arc;

use apollo_compiler::ast::Value as Ast;
use apollo_compiler::executable::{Operation, OperationType, Selection, SelectionSet};
use apollo_compiler::parser::{Parser, SourceSpan};
use apollo_compiler::validation::{DiagnosticList, Valid};
use apollo_compiler::{ExecutableDocument, Node, Schema};

use crate::error::{Code, Location, Problem};
use crate::suggest::did_you_mean;

/// Levels of nesting that the parser follows.
const PARSER_DEPTH: usize = 200;
/// Tokens that the parser reads.
const PARSER_TOKENS: usize = 20_000;

/// One operation of a valid document.
#[derive(Debug)]
pub struct Document {
    pub(super) schema: Arc<Valid<Schema>>,
    pub(super) executable: Valid<ExecutableDocument>,
    pub(super) operation: Node<Operation>,
    /// Variables that are used as cursors somewhere: their null pattern is part of the variables' shape.
    pub(super) cursor_variables: BTreeSet<String>,
    /// The operation's name in the request.
    pub name: Option<String>,
    bytes: usize,
}

impl Document {
    /// Parses and validates a document, and picks the operation.
    ///
    /// # Errors
    /// `PARSE_FAILED` or `VALIDATION_FAILED`, every mistake with its place; `TOO_COSTLY` for a document that is
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
            problems(&failure.errors, Code::ParseFailed, schema)
        })?;
        let executable = ast
            .to_executable_validate(schema)
            .map_err(|failure| problems(&failure.errors, Code::ValidationFailed, schema))?;
        let operation = pick(&executable, operation_name).map_err(|problem| vec![problem])?;
        let mut cursor_variables = BTreeSet::new();
        for set in std::iter::once(&operation.selection_set)
            .chain(executable.fragments.values().map(|fragment| &fragment.selection_set))
        {
            collect_cursor_variables(set, &mut cursor_variables);
        }
        Ok(Document {
            schema: Arc::clone(schema),
            operation,
            executable,
            cursor_variables,
            name: operation_name.map(str::to_owned),
            bytes: text.len(),
        })
    }

    /// Is it a mutation?
    pub fn is_mutation(&self) -> bool {
        self.operation.operation_type == OperationType::Mutation
    }

    /// About how many bytes it holds in memory, for the cache.
    pub fn weight(&self) -> usize {
        // Measured on documents of 1 to 20 kB: the syntax tree with its types is some 30 times the text.
        1_000 + self.bytes * 30
    }

    /// The place of a node in the document.
    pub(super) fn location(&self, span: Option<SourceSpan>) -> Option<Location> {
        let found = span?.line_column(&self.executable.sources)?;
        Some(Location { line: found.line, column: found.column })
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
    Err(Problem::new(Code::ValidationFailed, text))
}

fn collect_cursor_variables(set: &SelectionSet, found: &mut BTreeSet<String>) {
    for selection in &set.selections {
        match selection {
            Selection::Field(field) => {
                for argument in field.arguments.iter().filter(|a| matches!(a.name.as_str(), "after" | "before")) {
                    if let Ast::Variable(name) = argument.value.as_ref() {
                        found.insert(name.to_string());
                    }
                }
                if let Some(set) = &field.selection_set {
                    collect_cursor_variables(set, found);
                }
            }
            Selection::InlineFragment(fragment) => collect_cursor_variables(&fragment.selection_set, found),
            Selection::FragmentSpread(_) => {}
        }
    }
}

fn problems(errors: &DiagnosticList, code: Code, schema: &Schema) -> Vec<Problem> {
    /// More than this nobody reads, and a flood of mistakes must not become a flood of answers.
    const MOST: usize = 20;
    errors
        .iter()
        .take(MOST)
        .map(|diagnostic| {
            let json = diagnostic.to_json();
            let hint = hint(&json.message, schema);
            let mut problem = Problem::new(code, format!("{}{hint}", json.message));
            problem.locations =
                json.locations.iter().map(|place| Location { line: place.line, column: place.column }).collect();
            problem
        })
        .collect()
}

/// A near miss for a name that the schema does not have. The message names the type and what is missing in backticks.
fn hint(message: &str, schema: &Schema) -> String {
    use apollo_compiler::schema::ExtendedType;
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
