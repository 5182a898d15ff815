import { Link, useNavigate, useRouterState, useSearch } from '@tanstack/react-router';
import { useEffect, useState, type ReactNode } from 'react';
import { DialogTrigger, Dialog } from 'react-aria-components';
import styled from 'styled-components';
import { useEdits } from '../lib/edits';
import { useProjectState } from '../lib/queries';
import { useSession, useSigning } from '../lib/session';
import { keep, kept } from '../lib/store';
import { IconButton, QuietButton } from '../ui/Button';
import { Floating } from '../ui/fields';
import { Icon, type IconName } from '../ui/Icon';
import { AsSwitch } from './AsSwitch';
import { ChangesSheet } from './ChangesSheet';
import { GoTo } from './GoTo';
import { theme } from './theme';

/** The pages, in the order of the work. */
export const PAGES = [
  { to: '/', word: 'Start', icon: 'start' },
  { to: '/survey', word: 'Survey', icon: 'survey' },
  { to: '/model', word: 'Model', icon: 'model' },
  { to: '/access', word: 'Access', icon: 'access' },
  { to: '/ask', word: 'Ask', icon: 'ask' },
] as const satisfies readonly { to: string; word: string; icon: IconName }[];

/** What stands around every page: the rail with the pages, and the bar that says where and who one is. */
export function Frame({ children }: { children: ReactNode }) {
  const path = useRouterState({ select: (state) => state.location.pathname });
  const page = PAGES.find((page) => page.to !== '/' && path.startsWith(page.to)) ?? PAGES[0];
  const [going, setGoing] = useState(false);
  const { changes } = useSearch({ strict: false });
  const navigate = useNavigate();
  useEffect(() => {
    document.title = `${page.word} · Puente`;
  }, [page.word]);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
        event.preventDefault();
        setGoing(true);
      }
    };
    window.addEventListener('keydown', onKey);
    return () => {
      window.removeEventListener('keydown', onKey);
    };
  }, []);
  return (
    <Whole>
      <TopBar
        onGo={() => {
          setGoing(true);
        }}
      />
      <Rail aria-label="Pages">
        {PAGES.map((of) => (
          <PageLink
            key={of.to}
            to={of.to}
            search={(before) => (before.as === undefined ? {} : { as: before.as })}
            activeOptions={{ exact: of.to === '/' }}
          >
            <Icon name={of.icon} />
            <span>{of.word}</span>
          </PageLink>
        ))}
      </Rail>
      <Main id="page" aria-label={page.word}>
        {children}
      </Main>
      {going && (
        <GoTo
          onClose={() => {
            setGoing(false);
          }}
        />
      )}
      {changes !== undefined && (
        <ChangesSheet
          onClose={() => {
            void navigate({ to: '.', search: (before) => ({ ...before, changes: undefined }) });
          }}
        />
      )}
    </Whole>
  );
}

function TopBar({ onGo }: { onGo: () => void }) {
  const { me } = useSession();
  const { signOut } = useSigning();
  const { edits } = useEdits();
  const navigate = useNavigate();
  return (
    <Bar>
      <Brand>Puente</Brand>
      <Project title={me.project}>{me.project}</Project>
      {me.owner && <Sources />}
      <Space />
      {edits.length > 0 && (
        <Changes
          onPress={() => {
            void navigate({ to: '.', search: (before) => ({ ...before, changes: 'open' }) });
          }}
        >
          <Icon name="edit" />
          {edits.length === 1 ? '1 change' : `${String(edits.length)} changes`}
        </Changes>
      )}
      <AsSwitch />
      {me.owner && (
        <QuietButton onPress={onGo} aria-keyshortcuts="Control+K" aria-label="Go to">
          <Icon name="search" />
          <Wide>Go to</Wide>
        </QuietButton>
      )}
      <LookSwitch />
      <IconButton
        aria-label="Sign out"
        onPress={() => {
          signOut();
        }}
      >
        <Icon name="leave" />
      </IconButton>
    </Bar>
  );
}

/** Each source with how it is; pressed, why. */
function Sources() {
  const state = useProjectState();
  const sources = state.data?.sources ?? [];
  if (sources.length === 0) return null;
  const away = sources.filter((source) => !source.ready).length;
  const says =
    away === 0
      ? `all ${String(sources.length)} sources answer`
      : `${String(away)} of ${String(sources.length)} sources away`;
  return (
    <DialogTrigger>
      <IconButton aria-label={`Sources: ${says}`}>
        {sources.map((source) => (
          <Dot key={source.name} $ready={source.ready} />
        ))}
      </IconButton>
      <Floating>
        <SourceList aria-label="Sources">
          {sources.map((source) => (
            <li key={source.name}>
              <Dot $ready={source.ready} /> <strong>{source.name}</strong> {source.engine}:{' '}
              {source.ready ? 'answers' : (source.text ?? 'is away')}
            </li>
          ))}
        </SourceList>
      </Floating>
    </DialogTrigger>
  );
}

function LookSwitch() {
  const [look, setLook] = useState(() => kept<string | null>('browser', 'look', null));
  useEffect(() => {
    if (look === null) delete document.documentElement.dataset['look'];
    else document.documentElement.dataset['look'] = look;
  }, [look]);
  const dark = look === null ? window.matchMedia('(prefers-color-scheme: dark)').matches : look === 'dark';
  return (
    <IconButton
      aria-label={dark ? 'Use light colours' : 'Use dark colours'}
      onPress={() => {
        const next = dark ? 'light' : 'dark';
        setLook(next);
        keep('browser', 'look', next);
      }}
    >
      <Icon name={dark ? 'light' : 'dark'} />
    </IconButton>
  );
}

const Whole = styled.div`
  display: grid;
  height: 100dvh;
  grid-template: 'bar bar' auto 'rail main' minmax(0, 1fr) / auto minmax(0, 1fr);
  @media (max-width: 700px) {
    grid-template: 'bar' auto 'main' minmax(0, 1fr) 'rail' auto / minmax(0, 1fr);
  }
`;
const Bar = styled.header`
  grid-area: bar;
  display: flex;
  align-items: center;
  gap: 8px;
  min-width: 0;
  padding: 4px 8px 4px 16px;
  background: ${theme.raised};
  border-bottom: 1px solid ${theme.line};
  @media (max-width: 700px) {
    padding-left: 8px;
    gap: 4px;
  }
`;
const Brand = styled.span`
  font-size: 15px;
  font-weight: 600;
  color: ${theme.accent};
  @media (max-width: 700px) {
    display: none;
  }
`;
const Project = styled.span`
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  min-width: 40px;
  max-width: 220px;
`;
const Space = styled.span`
  flex: 1;
`;
const Wide = styled.span`
  @media (max-width: 700px) {
    display: none;
  }
`;
const Changes = styled(QuietButton)`
  color: ${theme.attention};
  border-color: ${theme.attention};
  background: ${theme.attentionGround};
`;
const Dot = styled.i<{ $ready: boolean }>`
  flex: none;
  display: inline-block;
  width: 9px;
  height: 9px;
  border-radius: ${({ $ready }) => ($ready ? '50%' : '1px')};
  background: ${({ $ready }) => ($ready ? theme.done : theme.danger)};
`;
const SourceList = styled(Dialog)`
  display: grid;
  gap: 6px;
  max-width: 420px;
  padding: 12px;
  outline: none;
  li {
    list-style: none;
  }
`;
const Rail = styled.nav`
  grid-area: rail;
  display: flex;
  flex-direction: column;
  gap: 2px;
  width: 112px;
  padding: 8px;
  background: ${theme.raised};
  border-right: 1px solid ${theme.line};
  @media (max-width: 700px) {
    flex-direction: row;
    justify-content: space-around;
    width: auto;
    padding: 2px;
    border-right: 0;
    border-top: 1px solid ${theme.line};
  }
`;
const PageLink = styled(Link)`
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 6px 12px 6px 8px;
  border-radius: 4px;
  color: ${theme.text};
  text-decoration: none;
  &:hover {
    background: ${theme.surface};
  }
  &.active {
    background: ${theme.accentGround};
    font-weight: 600;
  }
  @media (max-width: 700px) {
    flex-direction: column;
    gap: 2px;
    padding: 6px 8px;
    font-size: 12px;
  }
` as typeof Link;
const Main = styled.main`
  grid-area: main;
  min-width: 0;
  min-height: 0;
  overflow: hidden;
  background: ${theme.ground};
`;
