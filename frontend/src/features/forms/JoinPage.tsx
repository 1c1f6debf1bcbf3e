import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useParams } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Field, Input } from "../../components/Field";
import { Failed, Loading } from "../../components/Quiet";

/** Where anybody joins a list: the address is asked back by mail before anything is sent to it. */
export function JoinPage() {
  const token = useParams().token ?? "";
  const list = useQuery(reads.joining(token));
  const [given, setGiven] = useState({ address: "", name: "", leave_this_empty: "" });
  const send = useSent();
  if (list.isPending) return <Loading what="Opening …" />;
  if (list.isError) return <Failed error={list.error} />;
  if (send.done)
    return (
      <Sheet title="Look into your mailbox">
        <p role="status" className="mt-3 leading-relaxed [overflow-wrap:anywhere]">
          A mail is on its way to {given.address}. Press what it says there, and you are on the list. Until then nothing
          else is sent to you.
        </p>
      </Sheet>
    );
  return (
    <Sheet title={list.data.name}>
      {list.data.words && <p className="mt-3 leading-relaxed whitespace-pre-wrap text-soft">{list.data.words}</p>}
      <form
        noValidate
        className="mt-6 space-y-3 border-t border-rule pt-6"
        onSubmit={(e) => {
          e.preventDefault();
          send.now(() =>
            mutate(api.POST("/api/join/{token}", { params: { path: { token } }, body: given }), "nothing"),
          );
        }}
      >
        <Field label="Your mail address" wrong={send.wrong || undefined}>
          <Input
            type="email"
            autoComplete="email"
            value={given.address}
            onChange={(e) => setGiven({ ...given, address: e.target.value })}
          />
        </Field>
        {list.data.asks_name && (
          <Field label="Your name" help="May be empty.">
            <Input
              autoComplete="name"
              value={given.name}
              onChange={(e) => setGiven({ ...given, name: e.target.value })}
            />
          </Field>
        )}
        <div aria-hidden="true" className="absolute -left-[9999px] h-px w-px overflow-hidden">
          <label>
            Leave this empty
            <input
              tabIndex={-1}
              autoComplete="off"
              value={given.leave_this_empty}
              onChange={(e) => setGiven({ ...given, leave_this_empty: e.target.value })}
            />
          </label>
        </div>
        <Button
          look="main"
          type="submit"
          disabled={send.busy || !given.address.trim()}
          className="!px-5 !py-2 !text-base"
        >
          {send.busy ? "Sending …" : "Join"}
        </Button>
      </form>
    </Sheet>
  );
}

/** Where the mail leads to: opening the page changes nothing, pressing does. */
export function JoinYesPage() {
  const { token = "", answer = "" } = useParams();
  const found = useQuery(reads.joiningYes(token, answer));
  const send = useSent();
  if (found.isPending) return <Loading what="Opening …" />;
  if (found.isError) return <Failed error={found.error} />;
  const { name, address } = found.data;
  return (
    <Sheet title={send.done ? "You are on the list" : `Join “${name}”?`}>
      <p role="status" className="mt-3 leading-relaxed [overflow-wrap:anywhere]">
        {send.done
          ? `Letters of “${name}” go to ${address} from now on. Each says how to leave.`
          : `Letters of this list go to ${address} once you say yes.`}
      </p>
      {send.wrong && (
        <p role="alert" className="mt-3 text-sm text-brick">
          {send.wrong}
        </p>
      )}
      {!send.done && (
        <p className="mt-6">
          <Button
            look="main"
            disabled={send.busy}
            onClick={() =>
              send.now(() =>
                mutate(api.POST("/api/join/{token}/{answer}", { params: { path: { token, answer } } }), "nothing"),
              )
            }
          >
            Yes, put me on the list
          </Button>
        </p>
      )}
    </Sheet>
  );
}

function useSent() {
  const [state, setState] = useState({ busy: false, done: false, wrong: "" });
  async function now(act: () => Promise<unknown>) {
    setState({ busy: true, done: false, wrong: "" });
    try {
      await act();
      setState({ busy: false, done: true, wrong: "" });
    } catch (error) {
      setState({ busy: false, done: false, wrong: (error as Error).message });
    }
  }
  return { ...state, now };
}

function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="mx-auto max-w-xl px-6 py-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">{title}</h1>
      {children}
    </main>
  );
}
