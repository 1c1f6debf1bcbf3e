/** Whether an address that came from outside may become a link: http, https and mailto may, and places of this house. */
export function leadsAway(address: string): boolean {
  const plain = address.trim();
  if (/^\/(?!\/|\\)/.test(plain)) return true;
  try {
    return ["http:", "https:", "mailto:"].includes(new URL(plain).protocol);
  } catch {
    return false;
  }
}
