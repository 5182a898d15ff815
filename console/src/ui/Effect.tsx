import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useEdits } from '../lib/edits';
import type { Edit } from '../lib/interface';
import { post } from '../lib/project';
import { useSession } from '../lib/session';
import { Differences } from './Differences';
import { Findings } from './Findings';
import { Stack } from './layout';

/** What edits would do to the schemas, and what would be wrong, beside the form that makes them. */
export function Effect({ edits }: { edits: Edit[] }) {
  const { key } = useSession();
  const { edits: gathered } = useEdits();
  const wanted = JSON.stringify([...gathered, ...edits]);
  const [rested, setRested] = useState(wanted);
  useEffect(() => {
    const timer = setTimeout(() => {
      setRested(wanted);
    }, 400);
    return () => {
      clearTimeout(timer);
    };
  }, [wanted]);
  const proposed = useQuery({
    queryKey: ['project', 'effect', rested],
    queryFn: ({ signal }) => post(key, '/project/edits/propose', { edits: JSON.parse(rested) as Edit[] }, signal),
    enabled: edits.length > 0 && rested === wanted,
    retry: false,
  });
  if (edits.length === 0 || rested !== wanted) return null;
  if (proposed.isError) return <p role="alert">{proposed.error.message}</p>;
  if (!proposed.data) return null;
  return (
    <section aria-label="What it does" aria-live="polite">
      <Stack $gap={4}>
        {!proposed.data.sound && <Findings findings={proposed.data.findings} onlyBreaking />}
        {proposed.data.sound && <Differences differences={proposed.data.differences} />}
      </Stack>
    </section>
  );
}
