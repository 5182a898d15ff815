//! Reads `column IN ('a', 'b')` out of a table's definition: SQLite has no catalog of its check constraints.

/// A piece of SQL text.
#[derive(Debug, Clone, PartialEq)]
enum Token {
    /// A word, or a quoted identifier; words keep their case.
    Word(String),
    /// A text literal.
    Text(String),
    /// Anything else, a character at a time.
    Sign(char),
}

/// The columns that a check constrains to a list of texts, with the texts in their order.
pub(super) fn text_lists(sql: &str) -> Vec<(String, Vec<String>)> {
    let tokens = tokens(sql);
    let mut found = Vec::new();
    for start in 0..tokens.len() {
        if !is_word(&tokens[start], "check") || tokens.get(start + 1) != Some(&Token::Sign('(')) {
            continue;
        }
        let body = enclosed(&tokens[start + 2..]);
        found.extend(whole_list(body));
    }
    found
}

/// The tokens up to the parenthesis that closes.
fn enclosed(tokens: &[Token]) -> &[Token] {
    let mut depth = 1;
    for (at, token) in tokens.iter().enumerate() {
        match token {
            Token::Sign('(') => depth += 1,
            Token::Sign(')') => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return &tokens[..at];
        }
    }
    tokens
}

/// `column IN (…)` as the whole check, or after `column IS NULL OR`. Anything more could allow other texts.
fn whole_list(body: &[Token]) -> Option<(String, Vec<String>)> {
    let body = match body {
        [Token::Word(a), is, null, or, rest @ ..]
            if is_word(is, "is")
                && is_word(null, "null")
                && is_word(or, "or")
                && rest.first() == Some(&Token::Word(a.clone())) =>
        {
            rest
        }
        other => other,
    };
    let [Token::Word(column), is_in, Token::Sign('('), list @ .., Token::Sign(')')] = body else { return None };
    if !is_word(is_in, "in") || list.is_empty() {
        return None;
    }
    let mut texts = Vec::new();
    for (at, token) in list.iter().enumerate() {
        match token {
            Token::Text(text) if at % 2 == 0 => texts.push(text.clone()),
            Token::Sign(',') if at % 2 == 1 => {}
            _ => return None,
        }
    }
    Some((column.clone(), texts))
}

fn is_word(token: &Token, word: &str) -> bool {
    matches!(token, Token::Word(found) if found.eq_ignore_ascii_case(word))
}

fn tokens(sql: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut rest = sql.chars().peekable();
    while let Some(first) = rest.next() {
        match first {
            '\'' => tokens.push(Token::Text(quoted(&mut rest, '\''))),
            '"' => tokens.push(Token::Word(quoted(&mut rest, '"'))),
            '`' => tokens.push(Token::Word(quoted(&mut rest, '`'))),
            '[' => tokens.push(Token::Word(rest.by_ref().take_while(|c| *c != ']').collect())),
            '-' if rest.peek() == Some(&'-') => rest.by_ref().take_while(|c| *c != '\n').for_each(drop),
            '/' if rest.peek() == Some(&'*') => {
                let mut last = ' ';
                rest.by_ref()
                    .skip(1)
                    .take_while(|c| !(std::mem::replace(&mut last, *c) == '*' && *c == '/'))
                    .for_each(drop);
            }
            c if c.is_alphanumeric() || c == '_' => {
                let mut word = String::from(c);
                while let Some(next) = rest.next_if(|c| c.is_alphanumeric() || *c == '_') {
                    word.push(next);
                }
                tokens.push(Token::Word(word));
            }
            c if c.is_whitespace() => {}
            c => tokens.push(Token::Sign(c)),
        }
    }
    tokens
}

/// The text up to the closing quote; a doubled quote stands for itself.
fn quoted(rest: &mut std::iter::Peekable<std::str::Chars<'_>>, quote: char) -> String {
    let mut text = String::new();
    while let Some(next) = rest.next() {
        if next == quote && rest.next_if_eq(&quote).is_none() {
            break;
        }
        text.push(next);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_texts_are_found_and_other_checks_are_not() {
        let sql = "create table t (
            status text not null check (status in ('new', 'it''s', 'done')), -- check (x in ('no'))
            \"size\" text /* check (y in ('no')) */ check (\"size\" IN ('S','M')),
            level text check (level is null or level in ('low')),
            a text check (a in ('x') or b > 1),
            n integer check (n in (1, 2)),
            check ([kind] in ('k')))";
        let found = text_lists(sql);
        let expected: &[(&str, &[&str])] =
            &[("status", &["new", "it's", "done"]), ("size", &["S", "M"]), ("level", &["low"]), ("kind", &["k"])];
        assert_eq!(found.len(), expected.len(), "{found:?}");
        for ((column, texts), (name, values)) in found.iter().zip(expected) {
            assert_eq!(
                (column.as_str(), texts.as_slice()),
                (*name, &values.iter().map(|v| (*v).to_owned()).collect::<Vec<_>>()[..])
            );
        }
    }
}
