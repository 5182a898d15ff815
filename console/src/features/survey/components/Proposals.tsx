import { useMutation } from '@tanstack/react-query';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { Found, ProposalKind, ProposalSheet, RenameSheet } from '../../../lib/interface';
import { post } from '../../../lib/project';
import { useProjectChanged } from '../../../lib/queries';
import { useSession } from '../../../lib/session';
import { Button, QuietButton } from '../../../ui/Button';
import { Faint, Row, Stack, Word } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { Empty } from '../../../ui/states';
import { Evidence } from './Evidence';

const WORDS: Record<ProposalKind, { kind: string; verb: string }> = {
  link: { kind: 'link', verb: 'Add the link' },
  key: { kind: 'key', verb: 'Write the key' },
  shape: { kind: 'types', verb: 'Give it types' },
};

/** What the survey suggests and does not apply, each with what speaks for it. */
export function Proposals({ found, proposals }: { found: Found | null; proposals: ProposalSheet[] }) {
  const { add } = useEdits();
  const { me } = useSession();
  if (found === null) {
    return (
      <Empty title="Proposals are known after a survey">
        This service has not surveyed since it started: the button above does.
      </Empty>
    );
  }
  if (proposals.length === 0 && found.renames.length === 0) {
    return <Empty title="No proposal waits">What names, types and sampled values suggest would be here.</Empty>;
  }
  const proven = proposals.filter((proposal) => proposal.found > 0 && proposal.found === proposal.sampled);
  return (
    <Stack>
      {me.editing && proven.length > 1 && (
        <Row>
          <QuietButton
            onPress={() => {
              add(...proven.map((proposal) => proposal.edit));
            }}
          >
            Accept the {proven.length} for which every sampled value speaks
          </QuietButton>
        </Row>
      )}
      <List aria-label="Proposals">
        {found.renames.map((rename) => (
          <Rename key={`${rename.source} ${rename.now}`} rename={rename} />
        ))}
        {proposals.map((proposal) => (
          <li key={proposal.toml}>
            <div className="what">
              <Row>
                <Word>{WORDS[proposal.kind].kind}</Word>
                <strong>{proposal.text}</strong>
              </Row>
              <Faint>{proposal.evidence}</Faint>
            </div>
            <Evidence sampled={proposal.sampled} found={proposal.found} />
            <details>
              <summary>What accepting it writes</summary>
              <pre tabIndex={0}>{proposal.toml}</pre>
            </details>
            {me.editing && (
              <Button
                aria-label={`${WORDS[proposal.kind].verb}: ${proposal.text}`}
                onPress={() => {
                  add(proposal.edit);
                }}
              >
                {WORDS[proposal.kind].verb}
              </Button>
            )}
          </li>
        ))}
      </List>
    </Stack>
  );
}

/** Something that may be what is gone: accepted, it keeps its names, in the survey file. */
function Rename({ rename }: { rename: RenameSheet }) {
  const { key, me } = useSession();
  const changed = useProjectChanged();
  const take = useMutation({ mutationFn: () => post(key, '/project/survey/renames', rename), onSuccess: changed });
  return (
    <li>
      <div className="what">
        <Row>
          <Word>rename</Word>
          <strong>
            {rename.now} may be what was {rename.before}
          </strong>
        </Row>
        <Faint>The API keeps the names that it had; the survey file of {rename.source} remembers it.</Faint>
        {take.error && <Notice title="The names were not kept">{take.error.message}</Notice>}
      </div>
      {me.editing && (
        <Button
          isDisabled={take.isPending}
          onPress={() => {
            take.mutate();
          }}
        >
          Keep the names of {rename.before}
        </Button>
      )}
    </li>
  );
}

const List = styled.ul`
  display: grid;
  gap: 8px;
  li {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto auto;
    align-items: center;
    gap: 4px 16px;
    padding: 8px 12px;
    background: ${theme.surface};
    border: 1px solid ${theme.line};
    border-radius: 4px;
  }
  .what {
    display: grid;
    gap: 2px;
    min-width: 0;
    overflow-wrap: anywhere;
  }
  details {
    grid-column: 1 / -1;
    order: 4;
  }
  summary {
    color: ${theme.muted};
    cursor: pointer;
    width: max-content;
  }
  pre {
    padding: 8px;
    background: ${theme.raised};
    border-radius: 4px;
    overflow: auto;
    margin-top: 4px;
  }
  @media (max-width: 700px) {
    li {
      grid-template-columns: minmax(0, 1fr);
      justify-items: start;
    }
  }
`;
