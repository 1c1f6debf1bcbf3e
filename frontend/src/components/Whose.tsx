import { useQuery } from "@tanstack/react-query";
import * as reads from "../api/reads";
import { useSession } from "../app/session";
import { Choice, Field } from "./Field";

/** The brand something is for by itself, and whether one has to be chosen: who is kept to some brands makes what is theirs. */
export function useHome(): { brand: string; kept: boolean } {
  const kept = useSession().data?.brands ?? null;
  return { brand: kept?.[0] ?? "", kept: kept !== null };
}

/** Whose something is: a brand's, or (`all`) what that means for the rest of the house. */
export function Whose({
  value,
  all,
  help,
  onChange,
}: {
  value: string;
  all: string;
  help: string;
  onChange: (brand: string) => void;
}) {
  const brands = useQuery(reads.brands());
  const { kept } = useHome();
  if (!brands.data?.length || (kept && brands.data.length === 1)) return null;
  return (
    <Field label="Whose it is" help={help}>
      <Choice value={value} onChange={(e) => onChange(e.target.value)}>
        {!kept && <option value="">{all}</option>}
        {brands.data.map((one) => (
          <option key={one.key} value={one.key}>
            {one.name}
          </option>
        ))}
      </Choice>
    </Field>
  );
}
