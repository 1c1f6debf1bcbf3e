import { useState } from "react";
import { Choice, Input } from "../../../../components/Field";

const UNITS: [number, string][] = [
  [86400, "days"],
  [3600, "hours"],
  [60, "minutes"],
  [1, "seconds"],
];

/** A length of time in the unit that says it shortest. */
export function Duration({
  label,
  seconds,
  onChange,
}: {
  label: string;
  seconds: number;
  onChange: (s: number) => void;
}) {
  const fitting = UNITS.find(([size]) => seconds >= size && seconds % size === 0)?.[0] ?? 1;
  const [unit, setUnit] = useState(fitting);
  return (
    <div className="flex gap-1">
      <Input
        type="number"
        min={0}
        aria-label={label}
        className="!w-16"
        value={seconds / unit}
        onChange={(e) => onChange(Number(e.target.value) * unit)}
      />
      <Choice
        aria-label={`${label}, unit`}
        value={unit}
        onChange={(e) => {
          onChange((seconds / unit) * Number(e.target.value));
          setUnit(Number(e.target.value));
        }}
      >
        {UNITS.map(([size, word]) => (
          <option key={size} value={size}>
            {word}
          </option>
        ))}
      </Choice>
    </div>
  );
}
