"""The usual Python client: the schema fetched, documents checked against it before they are sent, and the service's own words."""

import os
from importlib.metadata import version

from gql import Client, gql
from gql.dsl import DSLQuery, DSLSchema, dsl_gql
from gql.transport.exceptions import TransportQueryError
from gql.transport.requests import RequestsHTTPTransport
from graphql import GraphQLError

ADDRESS = os.environ["PUENTE_URL"]
HEADERS = {"Authorization": f"Bearer {os.environ['PUENTE_KEY']}"}


def connect(checked: bool) -> Client:
    transport = RequestsHTTPTransport(url=ADDRESS, headers=HEADERS)
    return Client(transport=transport, fetch_schema_from_transport=checked)


def main() -> None:
    query = gql("query Huts($first: Int!) { huts(first: $first) { nodes { id name } pageInfo { endCursor } } }")
    query.variable_values = {"first": 2}
    with connect(checked=True) as session:
        page = session.execute(query)["huts"]
        assert len(page["nodes"]) == 2, page

        # A document that does not fit the schema goes nowhere.
        try:
            session.execute(gql("{ hats { name } }"))
        except GraphQLError as error:
            assert "hats" in str(error), error
        else:
            raise AssertionError("a field that is none was let through")

        # A document made of Python calls.
        schema = DSLSchema(session.client.schema)
        made = dsl_gql(DSLQuery(schema.Query.huts(first=1).select(schema.HutConnection.nodes.select(schema.Hut.name))))
        assert len(session.execute(made)["huts"]["nodes"]) == 1

        hut = page["nodes"][0]
        rename = gql("mutation Rename($id: Int!, $name: String!) { updateHut(key: { id: $id }, set: { name: $name }) { node { name } } }")
        rename.variable_values = {"id": hut["id"], "name": hut["name"]}
        assert session.execute(rename)["updateHut"]["node"]["name"] == hut["name"]

    with connect(checked=False) as session:
        try:
            session.execute(gql("{ hats { name } }"))
        except TransportQueryError as error:
            assert "hats" in str(error), error
        else:
            raise AssertionError("a field that is none was answered")
    print(f"gql {version('gql')}: schema fetched, documents checked, made by calls, changes, errors")


main()
