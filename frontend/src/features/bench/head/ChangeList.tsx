/** What differs between two states of a page, line by line and setting by setting. */

import type { Schemas } from "../../../api/client";
import { reached } from "../../../components/keys";
import { Changes } from "../../../components/Rules";
import { Sentence } from "../../../components/Sentence";

const WORDS: Record<string, [string, string]> = {
  added: ["text-leaf", "+ added"],
  removed: ["text-brick", "− removed"],
  moved: ["text-ochre", "↕ moved"],
  changed: ["text-ochre", "~ changed"],
  page: ["text-ochre", "~ the page"],
};

export function ChangeList({ changes }: { changes: Schemas["LineChangeView"][] }) {
  return (
    <ul>
      {changes.map((change) => (
        <li key={`${change.what}${change.step}`} className="border-t border-line py-2">
          <p>
            <span className={`mr-2 text-xs ${WORDS[change.what]?.[0]}`}>{WORDS[change.what]?.[1]}</span>
            <span className="font-serif">
              <Sentence parts={change.sentence} />
            </span>
          </p>
          {change.settings.map((setting) => (
            <div key={setting.title} className="mt-1 grid grid-cols-[8rem_1fr] gap-3 text-sm">
              <span className="text-xs text-soft">{setting.title}</span>
              <div className="max-h-60 overflow-y-auto" {...reached(setting.title)}>
                <Changes changes={setting.changes} />
              </div>
            </div>
          ))}
        </li>
      ))}
    </ul>
  );
}
