import {
  getNamedType,
  isEnumType,
  isInputObjectType,
  isObjectType,
  type GraphQLNamedType,
  type GraphQLSchema,
  type GraphQLType,
} from 'graphql';
import { useState } from 'react';
import { Input, Label, SearchField } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { LinkButton } from '../../../ui/Button';

/** The live schema to read: the query's fields first, then whatever type is followed or searched. */
export function Documentation({ schema }: { schema: GraphQLSchema }) {
  const root = schema.getQueryType();
  const [trail, setTrail] = useState<string[]>([]);
  const [search, setSearch] = useState('');
  const current = schema.getType(trail.at(-1) ?? root?.name ?? 'Query');
  const follow = (name: string) => {
    setSearch('');
    setTrail([...trail, name]);
  };
  return (
    <Side aria-label="Schema documentation">
      <SearchField value={search} onChange={setSearch}>
        <Label>Find a type or field</Label>
        <Input placeholder="booking" />
      </SearchField>
      {search.trim() !== '' ? (
        <Found schema={schema} search={search.trim().toLowerCase()} onFollow={follow} />
      ) : (
        <>
          <Crumbs>
            <LinkButton
              onPress={() => {
                setTrail([]);
              }}
            >
              {root?.name ?? 'Query'}
            </LinkButton>
            {trail.map((name, index) => (
              <span key={index}>
                {' › '}
                <LinkButton
                  onPress={() => {
                    setTrail(trail.slice(0, index + 1));
                  }}
                >
                  {name}
                </LinkButton>
              </span>
            ))}
          </Crumbs>
          {current && <TypePage type={current} onFollow={follow} />}
        </>
      )}
    </Side>
  );
}

interface Follow {
  onFollow: (name: string) => void;
}

function Found({ schema, search, onFollow }: Follow & { schema: GraphQLSchema; search: string }) {
  const most = 40;
  const types = Object.values(schema.getTypeMap()).filter((type) => !type.name.startsWith('__'));
  const found = types.flatMap((type) => {
    const own = type.name.toLowerCase().includes(search) ? [{ type: type.name, field: '' }] : [];
    const fields = isObjectType(type) ? Object.keys(type.getFields()) : [];
    return [
      ...own,
      ...fields.filter((name) => name.toLowerCase().includes(search)).map((field) => ({ type: type.name, field })),
    ];
  });
  if (found.length === 0) return <p>Nothing is called like that.</p>;
  return (
    <List>
      {found.slice(0, most).map(({ type, field }) => (
        <li key={`${type}.${field}`}>
          <LinkButton
            onPress={() => {
              onFollow(type);
            }}
          >
            {type}
            {field !== '' && `.${field}`}
          </LinkButton>
        </li>
      ))}
      {found.length > most && <li>… and {found.length - most} more</li>}
    </List>
  );
}

function TypePage({ type, onFollow }: Follow & { type: GraphQLNamedType }) {
  return (
    <>
      <h3>{type.name}</h3>
      {type.description && <p>{type.description}</p>}
      <List>
        {isObjectType(type) &&
          Object.values(type.getFields()).map((field) => (
            <li key={field.name}>
              <b>{field.name}</b>
              {field.args.length > 0 && (
                <Arguments>
                  (
                  {field.args.map((argument, index) => (
                    <span key={argument.name}>
                      {index > 0 && ', '}
                      {argument.name}: <TypeName type={argument.type} onFollow={onFollow} />
                    </span>
                  ))}
                  )
                </Arguments>
              )}
              : <TypeName type={field.type} onFollow={onFollow} />
              {field.description && <small>{field.description}</small>}
            </li>
          ))}
        {isInputObjectType(type) &&
          Object.values(type.getFields()).map((field) => (
            <li key={field.name}>
              <b>{field.name}</b>: <TypeName type={field.type} onFollow={onFollow} />
              {field.description && <small>{field.description}</small>}
            </li>
          ))}
        {isEnumType(type) &&
          type.getValues().map((value) => (
            <li key={value.name}>
              <b>{value.name}</b>
              {value.description && <small>{value.description}</small>}
            </li>
          ))}
      </List>
    </>
  );
}

function TypeName({ type, onFollow }: Follow & { type: GraphQLType }) {
  const name = getNamedType(type).name;
  const [before, after] = String(type).split(name);
  return (
    <span>
      {before}
      <LinkButton
        onPress={() => {
          onFollow(name);
        }}
      >
        {name}
      </LinkButton>
      {after}
    </span>
  );
}

const Side = styled.section`
  height: 100%;
  overflow: auto;
  padding: 12px;
  h3 {
    margin: 10px 0 4px;
  }
  p {
    margin: 4px 0 8px;
    color: ${theme.muted};
  }
  label {
    display: block;
    font-size: 12px;
    color: ${theme.muted};
  }
  input {
    width: 100%;
    padding: 5px 8px;
    font: inherit;
    color: ${theme.text};
    background: ${theme.raised};
    border: 1px solid ${theme.line};
  }
`;

const Crumbs = styled.nav`
  margin-top: 10px;
  font-size: 12px;
`;

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  li {
    padding: 4px 0;
    border-bottom: 1px solid ${theme.line};
    font-size: 13px;
    overflow-wrap: anywhere;
  }
  small {
    display: block;
    color: ${theme.muted};
  }
`;

const Arguments = styled.span`
  color: ${theme.muted};
  font-size: 12px;
`;
