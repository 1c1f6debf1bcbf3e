/** A kind of line explained where one stands: what it does, its settings, what it gives, and an example that can be put in. */
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Failed, Loading } from "../../../components/Quiet";
import { Sentence } from "../../../components/Sentence";

export function Help({
  kind,
  onPut,
  onClose,
}: {
  kind: string;
  /** Put the example below this line; nothing where one may only read, or on a start. */
  onPut?: (lines: Record<string, unknown>) => void;
  onClose: () => void;
}) {
  const told = useQuery(reads.kind(kind));
  if (told.isPending) return <Loading what="Looking it up …" />;
  if (told.isError) return <Failed error={told.error} again={() => told.refetch()} />;
  const { title, about, settings, gives, example } = told.data;
  return (
    <section aria-label="What this line does" className="space-y-4 text-sm">
      <div className="flex items-baseline gap-3">
        <h3 className="font-serif text-lg">{title}</h3>
        <span className="ml-auto" />
        <Button look="quiet" onClick={onClose} hint="H">
          Back to the result
        </Button>
      </div>
      <p>{about}</p>
      {example && (
        <div className="border-l-2 border-leaf pl-3">
          <p className="text-xs text-soft">As in “{example.template}”</p>
          <p className="my-1 font-serif">
            <Sentence parts={example.sentence} />
          </p>
          {onPut && <Button onClick={() => onPut(example.lines)}>Put it below this line</Button>}
        </div>
      )}
      <Explained title="What can be set" list={settings} />
      <Explained title="What it gives" list={gives} slots />
    </section>
  );
}

function Explained({ title, list, slots }: { title: string; list: Schemas["Explained"][]; slots?: boolean }) {
  if (!list.length) return null;
  return (
    <div>
      <h4 className="smallcaps text-soft">{title}</h4>
      <dl className="grid grid-cols-[9rem_1fr] gap-x-3 gap-y-1">
        {list.map((one) => (
          <div key={one.title} className="contents">
            <dt>
              {slots ? <span className="slot">{one.title}</span> : one.title}
              {one.required && <span className="block text-xs text-soft">must be set</span>}
            </dt>
            <dd className="text-soft">{one.about}</dd>
          </div>
        ))}
      </dl>
    </div>
  );
}
