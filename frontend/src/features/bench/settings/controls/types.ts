import type { ComponentType } from "react";
import type { Schemas, SlotProblem } from "../../../../api/client";
import type { LineDoc } from "../../model/document";

/** A setting, as its kind's JSON Schema tells of it. */
export type Property = {
  title?: string;
  description?: string;
  control?: string;
  needs?: string;
  told?: string;
  default?: unknown;
  minimum?: number;
  maximum?: number;
  type?: string;
  labels?: Record<string, string>;
  more?: boolean;
  last?: boolean;
  when?: string;
};

/** What a control is given: its setting, what stands there and what is around it. */
export type ControlProps = {
  label: string;
  help?: string;
  /** What is wrong with the value as a whole; `problems` stand at places in it. */
  wrong?: string;
  problems: SlotProblem[];
  value: unknown;
  set: (value: unknown) => void;
  property: Property;
  doc: LineDoc;
  kind: Schemas["KindView"];
  catalogue: Schemas["Catalogue"];
  above: LineDoc[];
  below: LineDoc[];
  values: Schemas["ValueView"][];
  disabled: boolean;
  onRun: () => void;
};

/** A control: how it shows, and how wide it stands. */
export type Control = { size: "wide" | "half" | "small"; Show: ComponentType<ControlProps> };
