import { useVirtualizer } from "@tanstack/react-virtual";
import {
  Fragment,
  type ReactNode,
  type Ref,
  type RefObject,
  useImperativeHandle,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import type { Bench, Cell, Line } from "../../../api/client";
import type { Goal } from "./dragging";
import { Row, type RowActions } from "./Row";

type Props = {
  ref: Ref<{ show: (line: string) => void }>;
  scroller: RefObject<HTMLDivElement | null>;
  lines: Line[];
  samples: Bench["samples"];
  step: string | null;
  sample: number | null;
  cells: Map<string, Cell>;
  maker: boolean;
  goal: Goal;
  actions: RefObject<RowActions>;
  /** The finder, where it stands open below a line. */
  finder: (line: string, depth: number) => ReactNode;
};

/** Cells from which on only the rows near what is in sight are drawn. */
const MANY = 300;
/** What a row not drawn yet is taken to be high, in pixels, and how many rows beyond those in sight are drawn. */
const HEIGHT = 92;
const BEYOND = 4;

/** The page's lines with their proofs, one row for each. */
export function Rows(props: Props) {
  const { lines, samples, step, finder, goal } = props;
  const told = useMemo(() => marginOf(lines), [lines]);
  const rowOf = (i: number) => {
    const line = lines[i]!;
    return (
      <>
        {i === 0 && finder("", 0)}
        <Row
          line={line}
          {...told[i]!}
          index={i + 2}
          first={i === 0}
          last={i === lines.length - 1}
          chosen={line.id === step}
          sample={props.sample}
          focusable={!step && i === 0}
          samples={samples}
          cells={props.cells}
          lines={step || line.stage === "record" ? 3 : 5}
          maker={props.maker}
          mark={goal?.line !== line.id ? "" : goal.below ? "below" : "above"}
          actions={props.actions}
        />
        {finder(line.id, line.depth + (line.holds === "steps" ? 1 : 0))}
      </>
    );
  };
  const Kind = lines.length * samples.length > MANY ? Near : All;
  return <Kind ref={props.ref} scroller={props.scroller} lines={lines} rowOf={rowOf} />;
}

type Drawn = Pick<Props, "ref" | "scroller" | "lines"> & { rowOf: (i: number) => ReactNode };

function All({ ref, scroller, lines, rowOf }: Drawn) {
  useImperativeHandle(ref, () => ({
    show: (line) => scroller.current?.querySelector(`[data-row="${line}"] > *`)?.scrollIntoView({ block: "center" }),
  }));
  return lines.map((line, i) => <Fragment key={line.id}>{rowOf(i)}</Fragment>);
}

/** A large page: the rows near what is in sight, with room for the others above and below. */
function Near({ ref, scroller, lines, rowOf }: Drawn) {
  const group = useRef<HTMLDivElement>(null);
  const [above, setAbove] = useState(0);
  useLayoutEffect(() => setAbove(group.current?.offsetTop ?? 0), []);
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    getItemKey: (i) => lines[i]!.id,
    estimateSize: () => HEIGHT,
    overscan: BEYOND,
    scrollMargin: above,
  });
  useImperativeHandle(ref, () => ({
    show: (line) => {
      const at = lines.findIndex((one) => one.id === line);
      if (at >= 0) virtual.scrollToIndex(at, { align: "center" });
    },
  }));
  const near = virtual.getVirtualItems();
  const first = near.length ? near[0]!.start - above : 0;
  const after = near.length ? virtual.getTotalSize() - (near.at(-1)!.end - above) : 0;
  return (
    <div ref={group} role="rowgroup" style={{ paddingTop: first, paddingBottom: after, overflowAnchor: "none" }}>
      {near.map((one) => (
        <div
          key={one.key}
          role="presentation"
          className="will-change-transform"
          ref={virtual.measureElement}
          data-index={one.index}
        >
          {rowOf(one.index)}
        </div>
      ))}
    </div>
  );
}

type Margin = { stage: string; number: number; of: number; target: string };

/** What stands in the margin of each line: its stage at the first of a run of lines, its number; and what choosing it chooses. */
function marginOf(lines: Line[]): Margin[] {
  let before = "";
  let number = 0;
  return lines.map((line) => {
    const stage = line.stage === before || line.stage === "flow" ? "" : line.stage;
    before = line.stage && line.stage !== "flow" ? line.stage : before;
    const numbered = line.kind !== "lane" && line.kind !== "take";
    if (numbered) number += 1;
    return {
      stage,
      number: numbered ? number : 0,
      of: number,
      target: line.kind === "lane" ? line.parent : line.id,
    };
  });
}
