import { useState } from 'react';
import { IconButton } from './Button';
import { Icon } from './Icon';

/** Copies a text, and says that it did. */
export function CopyButton({ what, text }: { what: string; text: string }) {
  const [done, setDone] = useState(false);
  return (
    <IconButton
      aria-label={done ? `Copied ${what}` : `Copy ${what}`}
      onPress={() => {
        void navigator.clipboard.writeText(text).then(() => {
          setDone(true);
          setTimeout(() => {
            setDone(false);
          }, 2_000);
        });
      }}
    >
      <Icon name={done ? 'check' : 'copy'} />
    </IconButton>
  );
}
