import { Link } from '@tanstack/react-router';
import { useQuery } from '@tanstack/react-query';
import { send } from '../../../lib/client';
import { useModel, useType } from '../../../lib/queries';
import { useSession } from '../../../lib/session';
import { Panel, Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { Answered } from '../../../ui/states';
import { AnswerTable } from '../../../ui/answer/AnswerTable';

/** The first answer: rows of the type that is linked the most, which says the most about what was found. */
export function FirstAnswer() {
  const { key } = useSession();
  const model = useModel();
  const first = [...(model.data?.types ?? [])].sort((a, b) => b.links.length - a.links.length)[0];
  const type = useType(first?.name);
  const document = type.data?.sample ?? '';
  const answer = useQuery({
    queryKey: ['first answer', document],
    queryFn: ({ signal }) => send(key, { document, variables: {}, statements: false }, signal),
    enabled: document !== '',
  });
  return (
    <Panel title={first ? `The first rows of ${first.name}` : 'The first answer'}>
      <Stack>
        <pre tabIndex={0}>{document}</pre>
        <Answered query={answer} what="The first answer">
          {(outcome) =>
            outcome.kind === 'answered' && outcome.answer.data !== null ? (
              <AnswerTable data={outcome.answer.data} document={document} />
            ) : (
              <Notice title="No answer came">
                {outcome.kind === 'answered' ? outcome.answer.problems[0]?.message : outcome.message}
              </Notice>
            )
          }
        </Answered>
        <Row $gap={16}>
          {first && (
            <Link to="/ask" search={{ type: first.name }}>
              Go on asking
            </Link>
          )}
          <Link to="/model">See the model</Link>
          <Link to="/access">Grant it to a role</Link>
        </Row>
      </Stack>
    </Panel>
  );
}
