import { createRootRoute, createRoute, createRouter, Outlet } from '@tanstack/react-router';
import { lazy, Suspense, type ComponentType } from 'react';
import { Empty, Failed, Loading } from '../ui/states';
import { Frame } from './Frame';

/** What is worth sharing is in the address: who one looks as, and what is open. */
type Search = Record<string, unknown>;
const text = (search: Search, name: string): string | undefined => {
  const value = search[name];
  return typeof value === 'string' && value !== '' ? value : typeof value === 'number' ? String(value) : undefined;
};

/** The members of an address that a page knows; others are dropped. */
function known<const Name extends string>(...names: Name[]) {
  return (search: Search) => {
    const found: Partial<Record<Name, string>> = {};
    for (const name of names) {
      const value = text(search, name);
      if (value !== undefined) found[name] = value;
    }
    return found;
  };
}

/** Each page is loaded when it is first seen, or when there is nothing else to do. */
const LOADS = {
  start: () => import('../features/start/StartPage').then(({ StartPage }) => ({ default: StartPage })),
  survey: () => import('../features/survey/SurveyPage').then(({ SurveyPage }) => ({ default: SurveyPage })),
  model: () => import('../features/model/ModelPage').then(({ ModelPage }) => ({ default: ModelPage })),
  access: () => import('../features/access/AccessPage').then(({ AccessPage }) => ({ default: AccessPage })),
  ask: () => import('../features/ask/AskPage').then(({ AskPage }) => ({ default: AskPage })),
};

/** Loads every page: one that was never seen is there also when the service is not. */
export function loadPages(): void {
  for (const load of Object.values(LOADS)) void load().catch(() => undefined);
}

function page(load: () => Promise<{ default: ComponentType }>) {
  const Page = lazy(load);
  return function Lazily() {
    return (
      <Suspense fallback={<Loading what="The page" />}>
        <Page />
      </Suspense>
    );
  };
}

const root = createRootRoute({
  validateSearch: known('as', 'changes'),
  component: () => (
    <Frame>
      <Outlet />
    </Frame>
  ),
  notFoundComponent: () => <Empty title="There is no page here">The pages are on the left.</Empty>,
  errorComponent: ({ error }) => (
    <Failed
      error={error instanceof Error ? error : new Error(String(error))}
      what="The page"
      onRetry={() => {
        window.location.reload();
      }}
    />
  ),
});

const start = createRoute({
  getParentRoute: () => root,
  path: '/',
  validateSearch: known('step'),
  component: page(LOADS.start),
});
const survey = createRoute({
  getParentRoute: () => root,
  path: '/survey',
  validateSearch: known('source', 'table', 'tab'),
  component: page(LOADS.survey),
});
const model = createRoute({
  getParentRoute: () => root,
  path: '/model',
  validateSearch: known('view', 'type', 'focus', 'steps', 'tab', 'link'),
  component: page(LOADS.model),
});
const access = createRoute({
  getParentRoute: () => root,
  path: '/access',
  validateSearch: known('tab', 'role', 'type', 'action', 'field', 'with', 'edit'),
  component: page(LOADS.access),
});
const ask = createRoute({
  getParentRoute: () => root,
  path: '/ask',
  validateSearch: known('type'),
  component: page(LOADS.ask),
});

const tree = root.addChildren([start, survey, model, access, ask]);

export function makeRouter() {
  return createRouter({
    routeTree: tree,
    defaultPendingComponent: () => <Loading what="The page" />,
    // Plain words in the address, instead of JSON.
    parseSearch: (search) => Object.fromEntries(new URLSearchParams(search)),
    stringifySearch: (search) => {
      const words = Object.entries(search as Search).filter(([, value]) => value !== undefined && value !== '');
      const query = new URLSearchParams(words.map(([name, value]) => [name, String(value)])).toString();
      return query === '' ? '' : `?${query}`;
    },
  });
}

declare module '@tanstack/react-router' {
  interface Register {
    router: ReturnType<typeof makeRouter>;
  }
}
