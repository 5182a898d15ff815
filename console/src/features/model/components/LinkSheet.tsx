import type { ModelOverview } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Sheet } from '../../../ui/Sheet';
import { Forbidden } from '../../../ui/states';
import { LinkForm } from './LinkForm';

/** The form of a link that was drawn from one type to another: `Booking>Hut` in the address. */
export function LinkSheet({ link, model, onClose }: { link: string; model: ModelOverview; onClose: () => void }) {
  const { me } = useSession();
  const [from, to] = link.split('>');
  const known = (name: string | undefined) => model.types.find((type) => type.name === name)?.name;
  const [start, end] = [known(from), known(to)];
  return (
    <Sheet title={`A link from ${from ?? ''} to ${to ?? ''}`} onClose={onClose}>
      {!me.editing ? (
        <Forbidden>{me.whyNot}</Forbidden>
      ) : start === undefined || end === undefined ? (
        <p>There is no such type any more.</p>
      ) : (
        <LinkForm model={model} from={start} to={end} onDone={onClose} />
      )}
    </Sheet>
  );
}
