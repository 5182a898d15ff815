/** The access key of this tab: from the address's fragment, which never leaves the browser, else as typed. */

import { forgetTab } from './store';

const STORED = 'puente.key';

export function takeKey(): string | null {
  const match = /^#key=(.+)$/.exec(window.location.hash);
  if (match?.[1]) {
    sessionStorage.setItem(STORED, decodeURIComponent(match[1]));
    window.history.replaceState(null, '', window.location.pathname + window.location.search);
  }
  return sessionStorage.getItem(STORED);
}

export function keepKey(key: string): void {
  sessionStorage.setItem(STORED, key);
}

/** Whoever leaves takes everything of this tab along. */
export function forgetKey(): void {
  forgetTab();
}
