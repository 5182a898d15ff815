import styled from 'styled-components';

/** Drawn for us: 16 px, one stroke. The word beside an icon says what it means, so it is silent to readers of screens. */
const PATHS = {
  start: 'M2 8.5 8 3l6 5.5M4 7.5V13h8V7.5',
  survey:
    'M2.5 5c0-1.4 2.5-2 5.5-2s5.5.6 5.5 2-2.5 2-5.5 2-5.5-.6-5.5-2zm0 0v6c0 1.4 2.5 2 5.5 2s5.5-.6 5.5-2V5M2.5 8c0 1.4 2.5 2 5.5 2s5.5-.6 5.5-2',
  model: 'M2.5 3h4v3.5h-4zM9.5 9.5h4V13h-4zM4.5 6.5v5h5',
  access: 'M5 8.5a3 3 0 1 1 2.6-4.5H14v3h-1.5V9H10V7H7.6A3 3 0 0 1 5 8.5zM5 5.5h.01',
  ask: 'M3 4l4 4-4 4M8.5 12H13',
  search: 'M7 11.5a4.5 4.5 0 1 1 0-9 4.5 4.5 0 0 1 0 9zM10.5 10.5 14 14',
  light: 'M8 5a3 3 0 1 0 0 6 3 3 0 0 0 0-6zM8 1v1.5M8 13.5V15M1 8h1.5M13.5 8H15M3 3l1 1M12 12l1 1M13 3l-1 1M4 12l-1 1',
  dark: 'M13 9.5A5.5 5.5 0 0 1 6.5 3 5.5 5.5 0 1 0 13 9.5z',
  leave: 'M9.5 3H3v10h6.5M7 8h7M11.5 5.5 14 8l-2.5 2.5',
  close: 'M3.5 3.5l9 9M12.5 3.5l-9 9',
  more: 'M3 8h.01M8 8h.01M13 8h.01',
  down: 'M4 6l4 4 4-4',
  right: 'M6 4l4 4-4 4',
  check: 'M3 8.5l3.5 3.5L13 4.5',
  hidden: 'M2 2l12 12M6.5 4.2A7 7 0 0 1 14.5 8a9 9 0 0 1-2 2.4M4 5.3A9 9 0 0 0 1.5 8a7 7 0 0 0 9 3.3',
  edit: 'M3 13l.7-3L11 2.7 13.3 5 6 12.3z',
  add: 'M8 3v10M3 8h10',
  remove: 'M3.5 5h9M6 5V3h4v2M5 5l.5 8h5L11 5',
  link: 'M6.5 9.5l3-3M7 5l1.5-1.5a2.5 2.5 0 0 1 3.5 3.5L10.5 8.5M9 11l-1.5 1.5a2.5 2.5 0 0 1-3.5-3.5L5.5 7.5',
  filter: 'M2.5 3.5h11L9.5 8.5v4l-3-1.5V8.5z',
  mask: 'M2 8s2-3.5 6-3.5S14 8 14 8s-2 3.5-6 3.5S2 8 2 8zM6 8h4',
  copy: 'M5.5 5.5v-3h8v8h-3M2.5 5.5h8v8h-8z',
  undo: 'M6 3 3 6l3 3M3 6h6a4 4 0 0 1 0 8H6',
  fit: 'M2.5 6V2.5H6M10 2.5h3.5V6M13.5 10v3.5H10M6 13.5H2.5V10',
  out: 'M3 8h10',
} as const;

export type IconName = keyof typeof PATHS;

export function Icon({ name }: { name: IconName }) {
  return (
    <Svg viewBox="0 0 16 16" width="16" height="16" aria-hidden="true" focusable="false">
      <path d={PATHS[name]} />
    </Svg>
  );
}

const Svg = styled.svg`
  flex: none;
  fill: none;
  stroke: currentColor;
  stroke-width: 1.4;
  stroke-linecap: round;
  stroke-linejoin: round;
`;
