import { Link } from '@tanstack/react-router';
import { useQuery } from '@tanstack/react-query';
import { claimsOf, useAs } from '../../../lib/as';
import { send } from '../../../lib/client';
import type { TypeSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { AnswerTable } from '../../../ui/answer/AnswerTable';
import { Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { Answered } from '../../../ui/states';

/** The first rows of a type, as whom one looks as. */
export function SampleRows({ sheet }: { sheet: TypeSheet }) {
  const { key } = useSession();
  const { role, isOwner } = useAs();
  const rows = useQuery({
    queryKey: ['rows', sheet.name, role, sheet.sample],
    queryFn: ({ signal }) =>
      send(
        key,
        {
          document: sheet.sample,
          variables: {},
          statements: false,
          ...(isOwner ? {} : { as: { role, claims: claimsOf(role) } }),
        },
        signal,
      ),
  });
  return (
    <Stack>
      <Answered query={rows} what={`Rows of ${sheet.name}`}>
        {(outcome) =>
          outcome.kind === 'answered' && outcome.answer.data !== null ? (
            <AnswerTable data={outcome.answer.data} document={sheet.sample} />
          ) : (
            <Notice tone="attention" title={`${role} is not answered`}>
              {outcome.kind === 'answered' ? outcome.answer.problems[0]?.message : outcome.message}
            </Notice>
          )
        }
      </Answered>
      <Row $gap={16}>
        <Link to="/ask" search={{ type: sheet.name }}>
          Ask about {sheet.name}
        </Link>
        <Link to="/access" search={{ tab: 'through', type: sheet.name }}>
          See it through a role
        </Link>
      </Row>
    </Stack>
  );
}
