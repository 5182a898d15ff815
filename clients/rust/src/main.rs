//! Two Rust clients of one service: types made from documents, and documents made from types. Both are checked against `schema.graphql`,
//! which whoever builds this fetches from the service first.

use cynic::{MutationBuilder as _, QueryBuilder as _};
use graphql_client::GraphQLQuery;
use serde::Serialize;
use serde::de::DeserializeOwned;

type Decimal = String;

#[derive(GraphQLQuery)]
#[graphql(schema_path = "schema.graphql", query_path = "src/huts.graphql", response_derives = "Debug")]
struct Huts;

#[cynic::schema("huts")]
mod schema {}

#[derive(cynic::QueryVariables)]
struct Page {
    first: i32,
}

#[derive(cynic::QueryFragment, Debug)]
#[cynic(graphql_type = "Query", variables = "Page")]
struct FirstHuts {
    #[arguments(first: $first)]
    huts: Option<HutConnection>,
}

#[derive(cynic::QueryFragment, Debug)]
struct HutConnection {
    nodes: Vec<Hut>,
}

#[derive(cynic::QueryFragment, Debug)]
struct Hut {
    id: i32,
    name: Option<String>,
}

#[derive(cynic::QueryVariables)]
struct Renamed {
    id: i32,
    name: String,
}

#[derive(cynic::QueryFragment, Debug)]
#[cynic(graphql_type = "Mutation", variables = "Renamed")]
struct Rename {
    #[arguments(key: { id: $id }, set: { name: $name })]
    #[cynic(rename = "updateHut")]
    update_hut: UpdatedHut,
}

#[derive(cynic::QueryFragment, Debug)]
#[cynic(graphql_type = "HutChange")]
struct UpdatedHut {
    node: Option<Hut>,
}

fn ask<T: DeserializeOwned>(body: impl Serialize) -> T {
    let address = std::env::var("PUENTE_URL").expect("PUENTE_URL is the service's address");
    let key = std::env::var("PUENTE_KEY").expect("PUENTE_KEY is a key of it");
    let request = ureq::post(&address).header("authorization", &format!("Bearer {key}"));
    request.send_json(body).expect("an answer").body_mut().read_json().expect("JSON of the expected form")
}

fn main() {
    let answer: graphql_client::Response<huts::ResponseData> = ask(Huts::build_query(huts::Variables { first: 2 }));
    let page = answer.data.expect("data").huts.expect("a page");
    assert_eq!(page.nodes.len(), 2);
    let hut = &page.nodes[0];
    println!("graphql_client 0.16.0: {:?} at {:?} m, {:?}", hut.name, hut.altitude, hut.price_per_night);

    let answer: cynic::GraphQlResponse<FirstHuts> = ask(FirstHuts::build(Page { first: 2 }));
    let first = &answer.data.expect("data").huts.expect("a page").nodes[0];
    assert_eq!(first.name, hut.name);
    let rename = Renamed { id: first.id, name: first.name.clone().expect("a name") };
    let answer: cynic::GraphQlResponse<Rename> = ask(Rename::build(rename));
    assert_eq!(answer.data.expect("data").update_hut.node.expect("the row").name, hut.name);
    println!("cynic 3.14.0: documents from types, a change");
}
