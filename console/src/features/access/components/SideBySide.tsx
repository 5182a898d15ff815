import { useNavigate, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { useAs } from '../../../lib/as';
import type { AccessOverview, ModelOverview } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Select } from '../../../ui/fields';
import { Row, Stack } from '../../../ui/layout';
import { RoleMark } from '../../../ui/RoleMark';
import { Empty } from '../../../ui/states';
import { differencesOf } from '../model';

/** Two roles side by side: what one has that the other has not. */
export function SideBySide({ access, model }: { access: AccessOverview; model: ModelOverview }) {
  const { me } = useSession();
  const search = useSearch({ from: '/access' });
  const navigate = useNavigate();
  const as = useAs();
  const roles = access.roles.map((role) => role.name);
  const left = [search.role, as.role].find((name) => name !== undefined && roles.includes(name)) ?? roles[0];
  const right =
    search.with !== undefined && roles.includes(search.with) ? search.with : roles.find((role) => role !== left);
  if (left === undefined || right === undefined)
    return <Empty title="It takes two roles">The tab Roles makes them.</Empty>;
  const options = roles.map((name) => ({ id: name, text: name, mark: <RoleMark role={name} roles={me.roles} /> }));
  const choose = (part: { role?: string; with?: string }) => {
    void navigate({ from: '/access', search: (before) => ({ ...before, tab: 'with', ...part }) });
  };
  const differences = differencesOf(access, left, right);
  const types = new Set(differences.map((difference) => difference.type)).size;
  return (
    <Stack>
      <Row $gap={16}>
        <Chooser>
          <Select
            label="One"
            value={left}
            options={options}
            onChange={(role) => {
              choose({ role });
            }}
          />
        </Chooser>
        <Chooser>
          <Select
            label="The other"
            value={right}
            options={options}
            onChange={(other) => {
              choose({ with: other });
            }}
          />
        </Chooser>
      </Row>
      {differences.length === 0 ? (
        <p>They may do the same.</p>
      ) : (
        <>
          <p>
            They differ in {differences.length} grants of {types} of {model.types.length} types.
          </p>
          <Scroll tabIndex={0}>
            <Table>
              <caption className="visually-hidden">
                What {left} and {right} may, where it differs
              </caption>
              <thead>
                <tr>
                  <th scope="col">type</th>
                  <th scope="col">action</th>
                  <th scope="col">
                    <RoleMark role={left} roles={me.roles} /> {left}
                  </th>
                  <th scope="col">
                    <RoleMark role={right} roles={me.roles} /> {right}
                  </th>
                </tr>
              </thead>
              <tbody>
                {differences.map((difference) => (
                  <tr key={`${difference.type} ${difference.action}`}>
                    <th scope="row">{difference.type}</th>
                    <td>{difference.action}</td>
                    <td className={difference.left === 'nothing' ? 'nothing' : ''}>{difference.left}</td>
                    <td className={difference.right === 'nothing' ? 'nothing' : ''}>{difference.right}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Scroll>
        </>
      )}
    </Stack>
  );
}

const Chooser = styled.div`
  width: 200px;
`;
const Scroll = styled.div`
  overflow-x: auto;
`;
const Table = styled.table`
  width: 100%;
  min-width: 640px;
  border-collapse: collapse;
  background: ${theme.surface};
  th,
  td {
    padding: 4px 12px 4px 8px;
    text-align: left;
    vertical-align: top;
    border-bottom: 1px solid ${theme.line};
    overflow-wrap: anywhere;
  }
  thead th {
    color: ${theme.muted};
    background: ${theme.raised};
    white-space: nowrap;
  }
  tbody th {
    font-weight: 400;
    white-space: nowrap;
  }
  td:nth-child(2) {
    white-space: nowrap;
  }
  .nothing {
    color: ${theme.muted};
    font-style: italic;
  }
`;
