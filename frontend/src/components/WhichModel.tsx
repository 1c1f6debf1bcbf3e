import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import * as reads from "../api/reads";
import { Choice, Field } from "./Field";

/** How many language models there are to ask; undefined while that is not known. */
export const useModels = () => useQuery(reads.catalogue()).data?.connections.filter((c) => c.kind === "model");

/** Which language model is asked, where there are several; where there is none, that one is needed. */
export function WhichModel({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (key: string) => void;
}) {
  const models = useModels();
  if (models?.length === 0)
    return (
      <p className="text-sm text-ochre">
        There is no language model here yet;{" "}
        <Link to="/connections" className="underline underline-offset-2">
          add one under Connections
        </Link>
        .
      </p>
    );
  if (!models || models.length === 1) return null;
  return (
    <Field label={label}>
      <Choice value={value} onChange={(e) => onChange(e.target.value)}>
        {models.map((m) => (
          <option key={m.key} value={m.key}>
            {m.name}
          </option>
        ))}
      </Choice>
    </Field>
  );
}
