import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Loading } from "../../components/Quiet";
import { say } from "../../components/Toast";

/** Where a person comes back to who agreed at the other side, or did not. */
export function Granted() {
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const [wrong, setWrong] = useState("");
  const begun = useRef(false);
  const [code, state, error] = ["code", "state", "error"].map((name) => query.get(name) ?? "") as [
    string,
    string,
    string,
  ];
  useEffect(() => {
    // A code is good once.
    if (begun.current) return;
    begun.current = true;
    if (!code) {
      setWrong(
        error === "access_denied"
          ? "You did not agree; nothing was connected."
          : `Nothing was connected: ${error || "no code came"}.`,
      );
      return;
    }
    mutate(api.POST("/api/connections/granted", { body: { code, state } }), "connections").then(
      () => {
        say("Connected.");
        navigate("/connections", { replace: true });
      },
      (problem) => setWrong((problem as Error).message),
    );
  }, [code, state, error, navigate]);
  if (!wrong) return <Loading what="Connecting …" />;
  return (
    <main className="mx-auto max-w-xl px-6 py-16">
      <h1 className="font-serif text-2xl font-semibold">Not connected</h1>
      <p role="alert" className="mt-3">
        {wrong}
      </p>
      <p className="mt-5">
        <Link className="text-leaf underline underline-offset-2" to="/connections">
          Back to Connections
        </Link>
      </p>
    </main>
  );
}
