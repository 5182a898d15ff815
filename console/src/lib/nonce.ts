/** The nonce that lets our styles in under the page's content security policy. Must be set before the first style. */
export const nonce = document.querySelector<HTMLMetaElement>('meta[name=nonce]')?.content ?? '';

(globalThis as { __webpack_nonce__?: string }).__webpack_nonce__ = nonce;
