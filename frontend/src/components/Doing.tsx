import { Away } from "./Away";

export type Turn = {
  round: number;
  said: string;
  tool: string;
  given: Record<string, unknown>;
  gave: string;
  failed: string;
};

/** What an assignment did, use by use: what it said, which line it used, with what, and what that gave. */
export function Doing({ talk }: { talk: Turn[] }) {
  if (!talk.length) return <p className="text-sm text-soft">It used no tool.</p>;
  return (
    <ol className="space-y-3">
      {talk.map((turn, n) => (
        <li key={n} className="grid grid-cols-[1.6rem_minmax(0,1fr)] text-sm">
          <span className="text-soft tabular-nums">{n + 1}</span>
          <div className="min-w-0">
            {turn.said && <p className="font-serif italic">{turn.said}</p>}
            <p className="[overflow-wrap:anywhere]">
              <span className="slot">{turn.tool}</span>{" "}
              {Object.entries(turn.given).map(([name, value]) => (
                <span key={name} className="mr-2">
                  <span className="text-soft">{name}</span> {String(value)}
                </span>
              ))}
            </p>
            {turn.failed ? (
              <p className="text-brick">{turn.failed}</p>
            ) : (
              <details>
                <summary className="line-clamp-2 cursor-pointer text-soft">{turn.gave.slice(0, 180)}</summary>
                <div className="piece mt-1 max-h-80 overflow-y-auto border-l-2 border-line pl-3">{turn.gave}</div>
              </details>
            )}
          </div>
        </li>
      ))}
    </ol>
  );
}

/** Where the answer of an assignment comes from. */
export function Sources({ sources }: { sources: { title: string; link: string }[] }) {
  return (
    <ul className="space-y-1 text-sm">
      {sources.map((one) => (
        <li key={one.link}>
          <Away to={one.link}>{one.title}</Away>
        </li>
      ))}
    </ul>
  );
}
