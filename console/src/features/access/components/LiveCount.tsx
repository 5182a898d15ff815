import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { claimsOf, useClaimsText } from '../../../lib/as';
import type { Edit } from '../../../lib/interface';
import { post, Refused } from '../../../lib/project';
import { useSession } from '../../../lib/session';
import { Faint } from '../../../ui/layout';
import { grouped } from '../../../ui/table/kinds';

/** How many rows a role would see, counted once the typing rests. */
export function LiveCount({ role, type, edits }: { role: string; type: string; edits: Edit[] }) {
  const { key } = useSession();
  const [claimsText] = useClaimsText(role);
  const wanted = JSON.stringify({ edits, claims: claimsText });
  const [rested, setRested] = useState(wanted);
  useEffect(() => {
    const timer = setTimeout(() => {
      setRested(wanted);
    }, 600);
    return () => {
      clearTimeout(timer);
    };
  }, [wanted]);
  const count = useQuery({
    queryKey: ['project', 'visible', role, type, rested],
    queryFn: ({ signal }) =>
      post(
        key,
        '/project/access/visible',
        { role, type, edits, claims: claimsOf(role) as Record<string, never> },
        signal,
      ),
    retry: false,
  });
  if (count.data && rested === wanted) {
    return (
      <p role="status">
        Shows <strong>{grouped(count.data.rows)}</strong> of {grouped(count.data.of)} rows for these claims.
      </p>
    );
  }
  if (count.error instanceof Refused && rested === wanted) {
    const found = count.error.findings[0];
    return <p role="status">Not counted: {found ? found.text : count.error.message}</p>;
  }
  return <Faint role="status">Counting…</Faint>;
}
