import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, Navigate, useParams } from "react-router";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Empty, Failed, Loading } from "../../components/Quiet";
import { useHome } from "../../components/Whose";
import { BrandPage } from "./BrandPage";
import { NewBrand } from "./NewBrand";

/** The clients: who they are, how they sound, and whether what went out sounds like them. */
export function Brands() {
  const key = useParams().key;
  const session = useSession();
  const maker = may(session.data, "maker");
  const [adding, setAdding] = useState(false);
  const { kept } = useHome();
  const all = useQuery(reads.brands());
  if (all.isPending) return <Loading what="Fetching the brands …" />;
  if (all.isError) return <Failed error={all.error} again={() => all.refetch()} />;
  if (!key && all.data[0]) return <Navigate to={`/brands/${all.data[0].key}`} replace />;
  return (
    <main className="grid min-h-0 flex-1 md:grid-cols-[15rem_1fr]">
      <nav aria-label="Brands" className="border-r border-line py-5">
        <ul>
          {all.data.map((brand) => (
            <li key={brand.key}>
              <Link
                to={`/brands/${brand.key}`}
                aria-current={brand.key === key ? "page" : undefined}
                className={`block border-l-[3px] px-4 py-2 ${brand.key === key ? "border-leaf bg-shade" : "border-transparent hover:bg-shade/60"}`}
              >
                <span className="block font-serif text-reading leading-snug">{brand.name}</span>
                <span className="text-xs text-soft">
                  {brand.workflows} workflow{brand.workflows === 1 ? "" : "s"}, {brand.examples} liked
                </span>
              </Link>
            </li>
          ))}
        </ul>
        <Link
          to={`/report${key ? `?brand=${key}` : ""}`}
          className="mt-3 block px-4 text-sm text-leaf underline underline-offset-2"
        >
          The record of a month
        </Link>
        {maker && !kept && (
          <Button look="quiet" className="mt-2 ml-2" onClick={() => setAdding(true)}>
            Add a brand
          </Button>
        )}
      </nav>
      {key ? (
        <BrandPage key={key} brand={key} maker={maker} />
      ) : (
        <div className="p-8">
          <Empty title="No brands yet.">
            A brand holds what all workflows of a client share: facts, voice and liked examples.
          </Empty>
        </div>
      )}
      <NewBrand open={adding} onClose={() => setAdding(false)} />
    </main>
  );
}
