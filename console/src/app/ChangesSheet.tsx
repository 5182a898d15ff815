import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import styled from 'styled-components';
import { told, useEdits, useProposed } from '../lib/edits';
import { post, Refused } from '../lib/project';
import { useProjectChanged, useProjectState } from '../lib/queries';
import { useSession } from '../lib/session';
import { Button, DangerButton, IconButton, QuietButton } from '../ui/Button';
import { Diff } from '../ui/Diff';
import { Findings } from '../ui/Findings';
import { Icon } from '../ui/Icon';
import { Stack } from '../ui/layout';
import { Notice } from '../ui/Notice';
import { Sheet } from '../ui/Sheet';
import { Answered, Empty } from '../ui/states';
import { Differences } from '../ui/Differences';
import { theme } from './theme';

/** What was gathered: each change, what it makes of the file and of the schemas, what is wrong with it; and the button that saves. */
export function ChangesSheet({ onClose }: { onClose: () => void }) {
  const { key, me } = useSession();
  const { edits, take, clear } = useEdits();
  const proposed = useProposed();
  const state = useProjectState();
  const changed = useProjectChanged();
  const [done, setDone] = useState<string | null>(null);
  const save = useMutation({
    mutationFn: (base: string) => post(key, '/project/edits/save', { base, edits }),
    onSuccess: async () => {
      setDone(`${count(edits.length)} saved to puente.toml, and served.`);
      clear();
      await changed();
    },
  });
  const undo = useMutation({
    mutationFn: () => post(key, '/project/edits/undo', undefined),
    onSuccess: async () => {
      setDone('The last save was taken back.');
      await changed();
    },
  });
  const saved = state.data?.saved ?? 0;
  const sound = proposed.data?.sound === true && !proposed.isFetching;
  return (
    <Sheet
      title="Changes of puente.toml"
      wide
      onClose={onClose}
      actions={
        <>
          {edits.length > 0 && me.editing && (
            <Button
              isDisabled={!sound || save.isPending}
              onPress={() => {
                if (proposed.data) save.mutate(proposed.data.base);
              }}
            >
              {save.isPending ? 'Saving…' : `Save ${count(edits.length)} to puente.toml`}
            </Button>
          )}
          {edits.length > 0 && <DangerButton onPress={clear}>Discard {count(edits.length)}</DangerButton>}
          {saved > 0 && me.editing && (
            <QuietButton
              isDisabled={undo.isPending}
              onPress={() => {
                undo.mutate();
              }}
            >
              <Icon name="undo" />
              Take the last save back
            </QuietButton>
          )}
        </>
      }
    >
      <Stack>
        {done !== null && <Notice tone="done" title={done} />}
        {!me.editing && (
          <Notice tone="plain" title="Read-only here">
            {me.whyNot}
          </Notice>
        )}
        {save.error instanceof Refused && (
          <Refusal
            error={save.error}
            mine={proposed.data?.text ?? ''}
            onAgain={() => {
              save.reset();
              void proposed.refetch();
            }}
          />
        )}
        {undo.error && <Notice title="Nothing was taken back">{undo.error.message}</Notice>}
        {edits.length === 0 ? (
          done === null && (
            <Empty title="Nothing has been changed">
              What you rename, hide, link and grant is gathered here until you save it.
            </Empty>
          )
        ) : (
          <>
            <List aria-label="Changes">
              {edits.map((edit, index) => (
                <li key={index}>
                  <span>{told(edit)}</span>
                  <IconButton
                    aria-label={`Drop: ${told(edit)}`}
                    onPress={() => {
                      take(index);
                    }}
                  >
                    <Icon name="close" />
                  </IconButton>
                </li>
              ))}
            </List>
            <Answered query={proposed} what="What this makes of the file">
              {(proposed) => (
                <Stack>
                  {!proposed.sound && (
                    <Notice title="The project could not be served so, and is not saved">
                      Mend what is wrong, or drop the change.
                    </Notice>
                  )}
                  <Findings findings={proposed.findings} onlyBreaking={!proposed.sound} />
                  <section aria-label="What it does to the schemas">
                    <h3>Schemas</h3>
                    <Differences differences={proposed.differences} />
                  </section>
                  <section aria-label="What it makes of the file">
                    <h3>puente.toml</h3>
                    <Diff groups={proposed.lines} />
                  </section>
                </Stack>
              )}
            </Answered>
          </>
        )}
      </Stack>
    </Sheet>
  );
}

export function count(changes: number): string {
  return changes === 1 ? '1 change' : `${String(changes)} changes`;
}

/** Somebody else wrote the file, or the project could not be served: nothing is lost. */
function Refusal({ error, mine, onAgain }: { error: Refused; mine: string; onAgain: () => void }) {
  if (error.now === null) {
    return (
      <Notice title="Nothing was saved">
        {error.message}
        <Findings findings={error.findings} onlyBreaking />
      </Notice>
    );
  }
  return (
    <Stack>
      <Notice title="Nothing was saved: the file is another one meanwhile">{error.message}</Notice>
      <Both>
        <section aria-label="The file as it is now">
          <h3>As it is now</h3>
          <pre tabIndex={0}>{error.now}</pre>
        </section>
        <section aria-label="The file as you would have saved it">
          <h3>As you would have saved it</h3>
          <pre tabIndex={0}>{mine}</pre>
        </section>
      </Both>
      <Button onPress={onAgain}>Make my changes in the file as it is now</Button>
    </Stack>
  );
}

const List = styled.ul`
  border: 1px solid ${theme.line};
  border-radius: 4px;
  li {
    display: flex;
    align-items: center;
    justify-content: space-between;
    gap: 8px;
    padding: 2px 4px 2px 12px;
    overflow-wrap: anywhere;
  }
  li + li {
    border-top: 1px solid ${theme.line};
  }
`;
const Both = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
  pre {
    max-height: 300px;
    overflow: auto;
    padding: 8px;
    border: 1px solid ${theme.line};
    border-radius: 4px;
  }
  @media (max-width: 700px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
