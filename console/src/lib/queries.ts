/** What pages have in common to ask: one place for the names under which answers are kept, and for what a save makes old. */

import { queryOptions, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback } from 'react';
import { get } from './project';
import { useSession } from './session';

export const queries = {
  state: (key: string) =>
    queryOptions({
      queryKey: ['project', 'state'],
      queryFn: ({ signal }) => get(key, '/project', {}, signal),
      refetchInterval: 15_000,
    }),
  model: (key: string) =>
    queryOptions({ queryKey: ['project', 'model'], queryFn: ({ signal }) => get(key, '/project/model', {}, signal) }),
  type: (key: string, name: string) =>
    queryOptions({
      queryKey: ['project', 'type', name],
      queryFn: ({ signal }) => get(key, '/project/types/{name}', { path: { name } }, signal),
    }),
  access: (key: string) =>
    queryOptions({ queryKey: ['project', 'access'], queryFn: ({ signal }) => get(key, '/project/access', {}, signal) }),
  survey: (key: string) =>
    queryOptions({ queryKey: ['project', 'survey'], queryFn: ({ signal }) => get(key, '/project/survey', {}, signal) }),
};

export function useProjectState() {
  const { key, me } = useSession();
  return useQuery({ ...queries.state(key), enabled: me.owner });
}

export function useModel() {
  const { key, me } = useSession();
  return useQuery({ ...queries.model(key), enabled: me.owner });
}

export function useType(name: string | undefined) {
  const { key, me } = useSession();
  return useQuery({ ...queries.type(key, name ?? ''), enabled: me.owner && name !== undefined });
}

export function useAccess() {
  const { key, me } = useSession();
  return useQuery({ ...queries.access(key), enabled: me.owner });
}

export function useSurvey() {
  const { key, me } = useSession();
  return useQuery({
    ...queries.survey(key),
    enabled: me.owner,
    refetchInterval: ({ state }) => (state.data?.running ? 300 : false),
  });
}

/** The project is another one now: everything that was answered about it is asked again. */
export function useProjectChanged(): () => Promise<void> {
  const client = useQueryClient();
  return useCallback(async () => {
    await client.invalidateQueries();
  }, [client]);
}
