/** The browser's own part of pushes: the worker that shows them, and where this browser is reached. */
import type { Schemas } from "./client";

export const takesPushes = () => "serviceWorker" in navigator && "PushManager" in window;

/** Have the worker stand by; without one the pages work as well. */
export function standBy(): void {
  if ("serviceWorker" in navigator) navigator.serviceWorker.register("/worker.js").catch(() => undefined);
}

/** Mark the app with how much waits, where it is installed. */
export function mark(waiting: number): void {
  const badge = navigator as Navigator & { setAppBadge?: (n: number) => Promise<void> };
  badge.setAppBadge?.(waiting).catch(() => undefined);
}

/** Where this browser takes pushes from a house with this key; asks the person for leave. */
export async function lineOf(key: string): Promise<Schemas["PushBody"]> {
  if ((await Notification.requestPermission()) !== "granted")
    throw new Error("This browser was not given leave to show messages. Allow it in its settings for this page.");
  const worker = await navigator.serviceWorker.ready;
  const earlier = await worker.pushManager.getSubscription();
  const same = earlier && keyOf(earlier.options.applicationServerKey) === key;
  if (earlier && !same) await earlier.unsubscribe();
  const line =
    earlier && same
      ? earlier
      : await worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key }).catch(() => {
          throw new Error("This browser could not reach its push service. Try again where it has a network.");
        });
  const { endpoint, keys } = line.toJSON();
  return { endpoint: endpoint!, keys: keys as Record<string, string>, name: nameOf(navigator.userAgent) };
}

function keyOf(raw: ArrayBuffer | null): string {
  if (!raw) return "";
  const text = btoa(String.fromCharCode(...new Uint8Array(raw)));
  return text.replaceAll("+", "-").replaceAll("/", "_").replace(/=+$/, "");
}

/** A device in words, as far as it says what it is: “a phone”, “a tablet”, “a computer”. */
export function nameOf(agent: string): string {
  if (/iPad|Tablet|Android(?!.*Mobile)/i.test(agent)) return "A tablet";
  return /Mobi|iPhone|Android/i.test(agent) ? "A phone" : "A computer";
}
