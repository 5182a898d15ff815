import { useEffect, useState, type ReactNode } from 'react';
import type { UseQueryResult } from '@tanstack/react-query';
import styled from 'styled-components';
import { theme } from '../app/theme';
import { Refused } from '../lib/project';
import { Button } from './Button';
import { Notice } from './Notice';

interface Props<T> {
  query: UseQueryResult<T>;
  /** What is loading, in words. */
  what: string;
  children: (data: T) => ReactNode;
}

/** What was asked of the service: loading, failed, forbidden, or there. */
export function Answered<T>({ query, what, children }: Props<T>) {
  if (query.data !== undefined) {
    return (
      <>
        {query.isError && (
          <Notice
            tone="attention"
            title={`${what}: as it was at ${new Date(query.dataUpdatedAt).toLocaleTimeString()}`}
          >
            {query.error.message}
          </Notice>
        )}
        {children(query.data)}
      </>
    );
  }
  if (query.isError) {
    return <Failed error={query.error} what={what} onRetry={() => void query.refetch()} />;
  }
  return <Loading what={what} />;
}

/** What could not be had: why, and the way to try again. */
export function Failed({ error, what, onRetry }: { error: Error; what: string; onRetry?: () => void }) {
  if (error instanceof Refused && error.status === 403) return <Forbidden>{error.message}</Forbidden>;
  return (
    <Middle>
      <Notice title={`${what} could not be loaded`}>
        {error.message}
        {error instanceof Refused && error.findings.length > 0 && (
          <ul>
            {error.findings.map((finding, index) => (
              <li key={index}>
                {finding.line !== undefined && finding.line !== null ? `line ${String(finding.line)}: ` : ''}
                {finding.text}
              </li>
            ))}
          </ul>
        )}
      </Notice>
      {onRetry && <Button onPress={onRetry}>Try again</Button>}
    </Middle>
  );
}

/** What one may not see: who may. */
export function Forbidden({ children }: { children: ReactNode }) {
  return (
    <Middle>
      <Notice tone="plain" title="Not for this key">
        {children}
      </Notice>
    </Middle>
  );
}

/** What would be here, and the one thing to do. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Middle>
      <strong>{title}</strong>
      {children}
    </Middle>
  );
}

/** Grey bars in the place of what comes, once it takes longer than anybody notices. */
export function Loading({ what }: { what: string }) {
  const [shown, setShown] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => {
      setShown(true);
    }, 300);
    return () => {
      clearTimeout(timer);
    };
  }, []);
  return (
    <Bars role="status" aria-label={`${what} is loading`}>
      {shown && [60, 90, 75, 84, 50].map((width, index) => <i key={index} style={{ width: `${String(width)}%` }} />)}
    </Bars>
  );
}

const Middle = styled.div`
  display: grid;
  justify-items: start;
  gap: 12px;
  max-width: 560px;
  margin: 32px auto;
  padding: 0 16px;
  color: ${theme.muted};
  strong {
    color: ${theme.text};
  }
  ul {
    padding-left: 16px;
    list-style: disc;
    margin-top: 4px;
  }
`;
const Bars = styled.div`
  display: grid;
  gap: 12px;
  padding: 16px;
  min-height: 160px;
  i {
    height: 14px;
    border-radius: 4px;
    background: ${theme.line};
    opacity: 0.6;
  }
`;
