import {
  Tab as AriaTab,
  TabList as AriaTabList,
  TabPanel as AriaTabPanel,
  Tabs as AriaTabs,
} from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../app/theme';

export const Tabs = styled(AriaTabs)`
  display: flex;
  flex-direction: column;
  min-height: 0;
  flex: 1;
  &[data-focus-visible] {
    outline: none;
  }
`;

export const TabList = styled(AriaTabList)`
  display: flex;
  flex: none;
  gap: 4px;
  border-bottom: 1px solid ${theme.line};
  overflow: auto hidden;
`;

export const Tab = styled(AriaTab)`
  padding: 6px 10px;
  color: ${theme.muted};
  border-bottom: 2px solid transparent;
  cursor: pointer;
  white-space: nowrap;
  &[data-selected] {
    color: ${theme.text};
    border-bottom-color: ${theme.accent};
    font-weight: 600;
  }
`;

export const TabPanel = styled(AriaTabPanel)`
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 12px 0;
  &[data-focus-visible] {
    outline-offset: -2px;
  }
`;

/** One that fills the page, and whose contents scroll by themselves. */
export const FilledPanel = styled(TabPanel)`
  display: flex;
  flex-direction: column;
  padding-bottom: 0;
`;
