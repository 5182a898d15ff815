const { graphql } = require('relay-runtime');

exports.query = graphql`
  query HutsQuery($first: Int!) {
    huts(first: $first) {
      edges {
        cursor
        node {
          id
          ...Huts_hut
        }
      }
      pageInfo {
        hasNextPage
        endCursor
      }
    }
  }
`;

exports.hut = graphql`
  fragment Huts_hut on Hut @refetchable(queryName: "HutRefetchQuery") {
    name
    region {
      name
    }
  }
`;

exports.rename = graphql`
  mutation RenameMutation($id: ID!, $name: String!) {
    updateHut(key: { id: $id }, set: { name: $name }) {
      node {
        id
        name
      }
    }
  }
`;
