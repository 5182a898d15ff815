//! The attacks: each a name and how it is sent, with whatever of it is random.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::time::Duration;

use flate2::Compression;
use flate2::write::GzEncoder;
use rand::RngExt as _;
use rand::rngs::StdRng;

use crate::client::Client;

/// One way to attack.
pub(crate) struct Attack {
    pub(crate) name: &'static str,
    send: fn(&Client<'_>, &mut StdRng) -> u16,
}

impl Attack {
    /// Sends it; the status of the answer, 0 where the connection was closed.
    pub(crate) fn send(&self, client: &Client<'_>, random: &mut StdRng) -> u16 {
        (self.send)(client, random)
    }

    /// All of them.
    pub(crate) const ALL: &'static [Attack] = &[
        Attack { name: "a costly filter", send: costly_filter },
        Attack { name: "many levels of large pages", send: levels },
        Attack { name: "fragments that double", send: |client, _| client.ask(&doubling(60), "{}") },
        Attack { name: "a fragment under many aliases", send: spread_everywhere },
        Attack { name: "aliases of one field", send: aliases },
        Attack { name: "aliases of root fields", send: root_aliases },
        Attack { name: "introspection by the hundred", send: introspection },
        Attack { name: "one whole introspection", send: |client, _| client.ask(SCHEMA, "{}") },
        Attack { name: "JSON that is deeper than it looks", send: deep },
        Attack { name: "names as long as a request", send: long_names },
        Attack { name: "a list of wrong values", send: |client, random| list(client, random, "\"x\"") },
        Attack { name: "a list of right values", send: |client, random| list(client, random, "1") },
        Attack { name: "a filter of many parts", send: many_parts },
        Attack { name: "new documents, never the same", send: new_documents },
        Attack {
            name: "a comment and many fields",
            send: |client, _| {
                client.ask(
                    &format!("# {}\n{{ huts {{ nodes {{ {} }} }} }}", "c".repeat(800_000), "name ".repeat(6_000)),
                    "{}",
                )
            },
        },
        Attack { name: "a body that unpacks to much", send: bomb },
        Attack { name: "an upload that stalls", send: stalled },
        Attack { name: "strange keys", send: strange_keys },
        Attack { name: "strange tokens", send: strange_tokens },
        Attack { name: "an order of many terms", send: order },
        Attack { name: "groups of everything", send: groups },
        Attack { name: "a mutation of every row, rehearsed", send: rehearsal },
        Attack { name: "a slow reader of a large answer", send: slow_reader },
        Attack { name: "a client that leaves", send: leaver },
        Attack { name: "bytes that are no HTTP", send: noise },
        Attack { name: "a document edited at random", send: edited },
    ];
}

const SCHEMA: &str = "{ __schema { types { name description fields { name description args { name type { name ofType { name } } } \
    type { name kind ofType { name kind ofType { name } } } } inputFields { name type { name ofType { name } } } enumValues { name } } } }";

fn costly_filter(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let word = random.random_range(0..1_000_000);
    let document = format!(
        "{{ hikers(filter: {{ not: {{ bookings: {{ exists: {{ hut: {{ bookings: {{ all: {{ hiker: {{ name: {{ contains: \"{word}\" }} }} }} }} }} }} }} }} }}) {{ totalCount }} \
           huts(filter: {{ bookings: {{ exists: {{ hiker: {{ bookings: {{ all: {{ hut: {{ name: {{ contains: \"{word}\", ignoreCase: true }} }} }} }} }} }} }} }}) {{ totalCount }} }}"
    );
    client.ask(&document, "{}")
}

fn levels(client: &Client<'_>, _: &mut StdRng) -> u16 {
    client.ask(
        "{ huts(first: 60) { nodes { name bookings(first: 60) { nodes { id hiker { name bookings(first: 20) { nodes { id hut { name } } } } } } } } }",
        "{}",
    )
}

fn doubling(number: usize) -> String {
    let mut document = "{ huts(first: 1) { nodes { ...f0 } } }".to_owned();
    for at in 0..number {
        document.push_str(&format!(" fragment f{at} on Hut {{ ...f{0} ...f{0} }}", at + 1));
    }
    document + &format!(" fragment f{number} on Hut {{ id }}")
}

fn spread_everywhere(client: &Client<'_>, _: &mut StdRng) -> u16 {
    let fields: String = (0..2_000).map(|at| format!("a{at}: name ")).collect();
    let aliases: String = (0..1_000).map(|at| format!("h{at}: hut(key: {{ id: 1 }}) {{ ...f }} ")).collect();
    client.ask(&format!("{{ {aliases} }} fragment f on Hut {{ {fields} }}"), "{}")
}

fn aliases(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let number = random.random_range(1_000..6_000);
    let fields: String = (0..number).map(|at| format!("a{at}: name ")).collect();
    client.ask(&format!("{{ huts(first: 500) {{ nodes {{ {fields} }} }} }}"), "{}")
}

fn root_aliases(client: &Client<'_>, _: &mut StdRng) -> u16 {
    let roots: String =
        (0..190).map(|at| format!("a{at}: huts(first: 500) {{ totalCount nodes {{ name }} }} ")).collect();
    client.ask(&format!("{{ {roots} }}"), "{}")
}

fn introspection(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let number = random.random_range(2..400);
    let many: String = (0..number)
        .map(|at| format!("a{at}: __schema {{ types {{ name fields {{ name type {{ name }} }} }} }} "))
        .collect();
    client.ask(&format!("{{ {many} }}"), "{}")
}

fn deep(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let mut text = "1".to_owned();
    while text.len() < 200_000 {
        let quoted = serde_json::Value::from(text.as_str());
        let levels = random.random_range(60..120);
        text = format!("{}{{\"$serde_json::private::RawValue\": {quoted}}}{}", "[".repeat(levels), "]".repeat(levels));
    }
    text.truncate(900_000);
    client.ask("{ __typename }", &format!("{{\"undeclared\": {text}}}"))
}

fn long_names(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let name = "n".repeat(random.random_range(1_000..400_000));
    match random.random_range(0..3) {
        0 => client.post(
            format!("{{\"query\": \"query {name} {{ __typename }}\", \"operationName\": \"{name}x\"}}").as_bytes(),
            &[],
        ),
        1 => client.ask(&format!("{{ {name} }}"), "{}"),
        _ => client.ask(
            "query($f: HutFilter) { huts(filter: $f) { nodes { id } } }",
            &format!("{{\"f\": {{\"{name}\": 1}}}}"),
        ),
    }
}

fn list(client: &Client<'_>, random: &mut StdRng, item: &str) -> u16 {
    let name = "v".repeat(random.random_range(1..100_000));
    let items = vec![item; 150_000].join(",");
    let document =
        format!("query(${name}: [Int!]) {{ huts(filter: {{ id: {{ in: ${name} }} }}) {{ nodes {{ id }} }} }}");
    client.ask(&document, &format!("{{\"{name}\": [{items}]}}"))
}

fn many_parts(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let number = random.random_range(100..12_000);
    let parts: Vec<String> = (0..number).map(|at| format!("{{\"id\":{{\"eq\":{at}}}}}")).collect();
    let document = "query($f: HutFilter) { huts(filter: $f) { nodes { id } } }";
    client.ask(document, &format!("{{\"f\": {{\"or\": [{}]}}}}", parts.join(",")))
}

fn new_documents(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let name = format!("v{}{}", random.random::<u64>(), "l".repeat(random.random_range(1..20_000)));
    let leaves = format!("{{ id: {{ eq: ${name} }} }} ").repeat(random.random_range(1..40));
    client.ask(
        &format!("query(${name}: Int) {{ huts(filter: {{ or: [{leaves}] }}) {{ nodes {{ {name}: id }} }} }}"),
        "{}",
    )
}

fn bomb(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    let megabyte = vec![b' '; 1 << 20];
    for _ in 0..random.random_range(2..150) {
        let _ = packed.write_all(&megabyte);
    }
    client.post(&packed.finish().unwrap_or_default(), &["Content-Encoding: gzip"])
}

fn stalled(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let Some(mut stream) = client.connect() else { return 0 };
    let head = format!(
        "POST /graphql HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nContent-Length: 900000\r\n\r\n{{\"query",
        client.service.address
    );
    let _ = stream.write_all(head.as_bytes());
    std::thread::sleep(Duration::from_millis(random.random_range(0..200)));
    0
}

fn strange_keys(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let key = random.random::<u64>();
    let request = format!(
        "POST /graphql HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nConnection: close\r\nContent-Length: 2\r\n\
         Authorization: Bearer puente_{key}\r\n\r\n{{}}",
        client.service.address
    );
    client.send(request.as_bytes())
}

fn strange_tokens(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let part = "eyJhbGciOiJIUzI1NiJ9".repeat(random.random_range(1..300));
    let request = format!(
        "GET /graphql?query=%7B__typename%7D HTTP/1.1\r\nHost: {}\r\nConnection: close\r\nAuthorization: Bearer {part}.{part}.AAAA\r\n\r\n",
        client.service.address
    );
    client.send(request.as_bytes())
}

fn order(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let terms = "{ hut: { region: { name: ASC } } } { hiker: { name: DESC } } { startsOn: ASC } "
        .repeat(random.random_range(1..300));
    client.ask(&format!("{{ bookings(orderBy: [{terms}], first: 500, offset: 1000) {{ nodes {{ id }} }} }}"), "{}")
}

fn groups(client: &Client<'_>, _: &mut StdRng) -> u16 {
    client.ask("{ bookings { groups(by: [{ startsOn: DAY }, { id: VALUE }], first: 500) { key { startsOn id } summary { count nights { sum avg min max } } } } }", "{}")
}

fn rehearsal(client: &Client<'_>, _: &mut StdRng) -> u16 {
    let document = "mutation { updateBookings(everyRow: true, set: { nights: 2 }) { count nodes { id } } }";
    let body = format!("{{\"query\": {}, \"extensions\": {{\"rehearse\": true}}}}", serde_json::Value::from(document));
    client.post(body.as_bytes(), &[])
}

/// A connection over which a document was sent, its answer unread.
fn asked(client: &Client<'_>, document: &str) -> Option<TcpStream> {
    let mut stream = client.connect()?;
    let body = format!("{{\"query\": {}}}", serde_json::Value::from(document));
    let head = format!(
        "POST /graphql HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        client.service.address,
        body.len()
    );
    let _ = stream.write_all(head.as_bytes());
    Some(stream)
}

fn slow_reader(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let document = "{ bookings(first: 500) { nodes { id startsOn hiker { name } hut { name } } } }";
    let Some(mut stream) = asked(client, document) else { return 0 };
    let mut little = [0; 16];
    for _ in 0..random.random_range(1..10) {
        let _ = stream.read(&mut little);
        std::thread::sleep(Duration::from_millis(20));
    }
    0
}

fn leaver(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let document = "{ huts(first: 500) { nodes { bookings(first: 500) { nodes { id } totalCount } } } }";
    let Some(_stream) = asked(client, document) else { return 0 };
    std::thread::sleep(Duration::from_millis(random.random_range(0..5)));
    0
}

fn noise(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let mut bytes: Vec<u8> = (0..random.random_range(1..2_000)).map(|_| random.random()).collect();
    bytes.extend_from_slice(b"\r\n\r\n");
    client.send(&bytes)
}

fn edited(client: &Client<'_>, random: &mut StdRng) -> u16 {
    let mut document: Vec<char> = SCHEMA.chars().chain("query($f: HutFilter) { huts(filter: $f, first: 3) { edges { cursor node { id bookings { totalCount } } } } }".chars()).collect();
    for _ in 0..random.random_range(1..30) {
        let at = random.random_range(0..document.len());
        let what = ['{', '}', '(', ')', '$', '"', 'a', ':', '[', ']', '@', '.'];
        match random.random_range(0..3) {
            0 => drop(document.remove(at)),
            1 => document.insert(at, what[random.random_range(0..what.len())]),
            _ => document[at] = what[random.random_range(0..what.len())],
        }
    }
    client.ask(&document.into_iter().collect::<String>(), "{}")
}
