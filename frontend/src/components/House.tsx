import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import * as reads from "../api/reads";
import { when } from "./words";

/** Why the house is held, and what is wrong with its data. */
export const useHouse = () => useQuery(reads.house());

/** On every screen: that the house is held, and what is wrong with its data. */
export function HouseStrip() {
  const house = useHouse();
  if (!house.data) return null;
  const { hold, troubles } = house.data;
  return (
    <>
      {hold && (
        <p role="status" className="border-b border-ochre bg-ochrewash px-5 py-1.5 text-sm text-ochre">
          ○ This house is held:{" "}
          {hold.why === "restored"
            ? `it was restored from a backup made ${when(hold.since)}.`
            : `its data stands elsewhere than it did when it was last used, ${when(hold.since)}.`}{" "}
          Nothing runs or goes out.{" "}
          <Link to="/" className="underline underline-offset-2">
            See what it would do
          </Link>
        </p>
      )}
      {troubles.map((words) => (
        <p key={words} role="alert" className="border-b border-brick bg-brickwash px-5 py-1.5 text-sm text-brick">
          ✕ {words}
        </p>
      ))}
    </>
  );
}
