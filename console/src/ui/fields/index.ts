export { Floating, Item, Items, Select } from './Select';
export { Switch } from './Switch';
export { TextField } from './TextField';
export { Tick } from './Tick';
