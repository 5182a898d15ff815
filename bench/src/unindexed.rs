//! A link that no index finds: 200 parents with all of their 22,000 children, in one pass on every engine.

use std::time::Instant;

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use serde_json::json;

use crate::report;

const PARENTS: usize = 200;
const CHILDREN: usize = 22_000;
const ROUNDS: usize = 9;

/// Measures it on every engine, in the same run.
pub(crate) fn measure() {
    report::line(&format!(
        "\nA link without an index, {PARENTS} parents and {CHILDREN} children, counted: medians of {ROUNDS}"
    ));
    for engine in [Engine::Sqlite, Engine::Postgres, Engine::Mariadb] {
        let database = filled(engine);
        let link = "[limits]\ncost = 1000000\npage = 1000\n[[link]]\ntable = \"children\"\ncolumns = [\"parent_id\"]\n\
                    to = \"parents\"\nreferences = [\"id\"]\n";
        let project = TestProject::of(&database, "", link);
        let service = project.serve();
        let query = "{ parents(first: 200) { nodes { id children(first: 100) { totalCount nodes { id name } } } } }";
        let mut times = Vec::new();
        for _ in 0..ROUNDS {
            let start = Instant::now();
            let answer = service.post(&json!({ "query": query }));
            times.push(start.elapsed());
            assert_eq!(answer.json()["data"]["parents"]["nodes"][3]["children"]["totalCount"], 110);
        }
        times.sort();
        report::line(&format!("{engine:?}: {} ms", times[ROUNDS / 2].as_millis()));
    }
}

fn filled(engine: Engine) -> Database {
    let database = Database::empty(engine);
    database.execute(
        "create table parents (id integer primary key, name varchar(20) not null);\n\
         create table children (id integer primary key, parent_id integer, name varchar(20) not null);\n",
    );
    let parents: Vec<String> = (0..PARENTS).map(|id| format!("({id}, 'p{id}')")).collect();
    let children: Vec<String> = (0..CHILDREN).map(|id| format!("({id}, {}, 'c{id}')", id % PARENTS)).collect();
    database.execute(&format!("insert into parents values {};\n", parents.join(", ")));
    for chunk in children.chunks(1_000) {
        database.execute(&format!("insert into children values {};\n", chunk.join(", ")));
    }
    if engine == Engine::Postgres {
        database.execute("analyze");
    }
    database
}
