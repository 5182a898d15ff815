import { useQuery } from '@tanstack/react-query';
import { createContext, useCallback, useContext, useMemo, type ReactNode } from 'react';
import type { Edit, Proposed } from './interface';
import { post } from './project';
import { useSession } from './session';
import { useKept } from './store';

/** The edits that were gathered and are not saved yet. They outlive a page, in this tab alone. */
interface Gathered {
  edits: Edit[];
  /** One more; one of the same thing that was gathered before is replaced. */
  add: (...edits: Edit[]) => void;
  take: (index: number) => void;
  clear: () => void;
}

const EditsContext = createContext<Gathered | null>(null);

export function EditsProvider({ children }: { children: ReactNode }) {
  const [edits, setEdits] = useKept<Edit[]>('tab', 'edits', []);
  const add = useCallback(
    (...added: Edit[]) => {
      setEdits(added.reduce(together, edits));
    },
    [edits, setEdits],
  );
  const gathered = useMemo<Gathered>(
    () => ({
      edits,
      add,
      take: (index) => {
        setEdits(edits.filter((_, at) => at !== index));
      },
      clear: () => {
        setEdits([]);
      },
    }),
    [add, edits, setEdits],
  );
  return <EditsContext.Provider value={gathered}>{children}</EditsContext.Provider>;
}

export function useEdits(): Gathered {
  const gathered = useContext(EditsContext);
  if (!gathered) throw new Error('outside of the edits');
  return gathered;
}

/** What the gathered edits would make of the file. */
export function useProposed() {
  const { key, me } = useSession();
  const { edits } = useEdits();
  return useQuery<Proposed>({
    queryKey: ['project', 'proposed', edits],
    queryFn: ({ signal }) => post(key, '/project/edits/propose', { edits }, signal),
    enabled: me.owner && edits.length > 0,
  });
}

/** The edits with one more: the last word about a thing counts, in the place of the first. */
export function together(edits: Edit[], added: Edit): Edit[] {
  const subject = subjectOf(added);
  // With a role its grants go, too.
  if (added.kind === 'removeRole')
    edits = edits.filter((edit) => !('role' in edit && edit.role === added.role && edit.kind !== 'setRole'));
  const at = edits.findIndex((edit) => subjectOf(edit) === subject);
  return at < 0 ? [...edits, added] : edits.map((edit, index) => (index === at ? added : edit));
}

/** What an edit is about. */
export function subjectOf(edit: Edit): string {
  switch (edit.kind) {
    case 'addSource':
      return `source ${edit.name}`;
    case 'setType':
      return `type ${edit.table} ${edit.setting.property}`;
    case 'setField':
      return `field ${edit.table} ${edit.column} ${edit.member ?? ''} ${edit.setting.property}`;
    case 'addLink':
      return `link ${JSON.stringify([edit.link.table, edit.link.columns, edit.link.to, edit.link.references, edit.link.through])}`;
    case 'changeLink':
      return `link ${JSON.stringify([edit.before.table, edit.before.columns, edit.before.to, edit.before.references, edit.before.through])}`;
    case 'removeLink':
      return `link ${JSON.stringify([edit.link.table, edit.link.columns, edit.link.to, edit.link.references, edit.link.through])}`;
    case 'setRole':
    case 'removeRole':
      return `role ${edit.role}`;
    case 'setGrant':
    case 'removeGrant':
      return `grant ${edit.role} ${edit.of} ${edit.action}`;
  }
}

/** An edit as a sentence. */
export function told(edit: Edit): string {
  switch (edit.kind) {
    case 'addSource':
      return `source ${edit.name} is added`;
    case 'setType': {
      const { property, value } = edit.setting;
      return `table ${edit.table}: ${setting(property, value)}`;
    }
    case 'setField': {
      const { property, value } = edit.setting;
      const member = edit.member ? ` › ${edit.member}` : '';
      return `column ${edit.table}.${edit.column}${member}: ${setting(property, value)}`;
    }
    case 'addLink':
      return `link from ${edit.link.table} to ${edit.link.to} is added`;
    case 'changeLink':
      return `link from ${edit.link.table} to ${edit.link.to} is changed`;
    case 'removeLink':
      return `link from ${edit.link.table} to ${edit.link.to} is taken out`;
    case 'setRole':
      return `role ${edit.role} is stated`;
    case 'removeRole':
      return `role ${edit.role} is taken out, with its grants`;
    case 'setGrant':
      return `role ${edit.role} may ${edit.action} ${edit.of}`;
    case 'removeGrant':
      return `role ${edit.role} may not ${edit.action} ${edit.of} any more`;
  }
}

function setting(property: string, value: string | string[] | boolean | null): string {
  if (property === 'hidden') return value === true ? 'is left out' : 'is shown';
  if (property === 'shape') return value === true ? 'its JSON gets types' : 'its JSON stays JSON';
  if (value === null || value === false || (Array.isArray(value) && value.length === 0))
    return `${property} as by rule`;
  return `${property} is ${Array.isArray(value) ? value.join(', ') : JSON.stringify(value)}`;
}
