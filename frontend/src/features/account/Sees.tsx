import { useQuery } from "@tanstack/react-query";
import * as reads from "../../api/reads";
import { Field } from "../../components/Field";

/** What of the house somebody sees: all of it, or what belongs to some brands. */
export function Sees({ brands, onChange }: { brands: string[] | null; onChange: (brands: string[] | null) => void }) {
  const all = useQuery(reads.brands());
  const kept = new Set(brands ?? []);
  return (
    <Field
      label="What they see"
      group
      help="Who is kept to brands sees their pages, runs, drafts, sheets, channels and people, and nothing that tells of another."
    >
      <label className="flex items-center gap-2 py-0.5 text-sm">
        <input type="radio" name="sees" checked={brands === null} onChange={() => onChange(null)} />
        All of the house
      </label>
      <label className="flex items-center gap-2 py-0.5 text-sm">
        <input type="radio" name="sees" checked={brands !== null} onChange={() => onChange([])} />
        Only what belongs to
      </label>
      {brands !== null && (
        <ul className="mt-1 ml-6 max-h-48 overflow-y-auto">
          {all.data?.map((brand) => (
            <li key={brand.key}>
              <label className="flex items-center gap-2 py-0.5 text-sm">
                <input
                  type="checkbox"
                  checked={kept.has(brand.key)}
                  onChange={() =>
                    onChange(kept.has(brand.key) ? brands.filter((one) => one !== brand.key) : [...brands, brand.key])
                  }
                />
                {brand.name}
              </label>
            </li>
          ))}
          {all.data?.length === 0 && <li className="text-sm text-soft">There is no brand yet.</li>}
        </ul>
      )}
    </Field>
  );
}
