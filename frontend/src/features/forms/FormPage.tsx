import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { ApiError } from "../../api/client";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import type { FormField } from "../../components/FormFields";
import { FormFields, useFilled } from "../../components/FormFields";
import { Failed, Loading } from "../../components/Quiet";

/** A public form: no account, nothing of the house around it, good on a phone. */
export function FormPage() {
  const token = useParams().token ?? "";
  const form = useQuery(reads.form(token));
  const fields = (form.data?.fields ?? []) as FormField[];
  const filled = useFilled(fields);
  const [trap, setTrap] = useState("");
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState("");
  const [thanks, setThanks] = useState("");
  if (form.isPending) return <Loading what="Opening the form …" />;
  if (form.isError) return <Failed error={form.error} />;

  async function send() {
    setBusy(true);
    setWrong("");
    const body = new FormData();
    for (const field of fields) {
      const file = filled.files[field.name];
      if (file) body.append(field.name, file);
      else if (field.type !== "file") body.append(field.name, filled.values[field.name] ?? "");
    }
    body.append("leave_this_empty", trap);
    try {
      const answer = await fetch(`/api/forms/${encodeURIComponent(token)}`, { method: "POST", body });
      const told = await answer.json();
      if (!answer.ok) throw new ApiError(told.message, answer.status, told.problems ?? []);
      setThanks(told.says);
    } catch (error) {
      filled.refused(error);
      setWrong(
        error instanceof ApiError
          ? error.message
          : "The server cannot be reached. What you wrote is still here; try again.",
      );
    } finally {
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto max-w-xl px-5 py-10">
      <h1 className="font-serif text-3xl leading-tight font-semibold">{form.data.heading}</h1>
      {thanks ? (
        <p role="status" className="mt-6 border-t border-rule pt-6 font-serif text-lg whitespace-pre-wrap">
          {thanks}
        </p>
      ) : !form.data.open ? (
        <p className="mt-6 border-t border-rule pt-6">This form is closed at the moment.</p>
      ) : (
        <>
          {form.data.intro && <p className="mt-3 whitespace-pre-wrap text-soft">{form.data.intro}</p>}
          <form
            noValidate
            className="mt-6 border-t border-rule pt-6"
            onSubmit={(e) => {
              e.preventDefault();
              send();
            }}
          >
            <FormFields fields={fields} filled={filled} />
            <div aria-hidden="true" className="absolute -left-[9999px] h-px w-px overflow-hidden">
              <label>
                Leave this empty
                <input tabIndex={-1} autoComplete="off" value={trap} onChange={(e) => setTrap(e.target.value)} />
              </label>
            </div>
            {wrong && (
              <p role="alert" className="mt-4 text-sm text-brick">
                {wrong}
              </p>
            )}
            <Button look="main" type="submit" disabled={busy} className="mt-6 !px-5 !py-2 !text-base">
              {busy ? "Sending …" : form.data.button}
            </Button>
          </form>
        </>
      )}
    </main>
  );
}
