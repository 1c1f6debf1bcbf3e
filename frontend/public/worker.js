/** Shows what the house pushes, marks the app with how much waits, and opens what was pressed. Keeps nothing and answers no request. */
self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("push", (event) => {
  let message = {};
  try {
    message = event.data ? event.data.json() : {};
  } catch {
    // A push that cannot be read still says that something waits.
  }
  const link = String(message.link || "/approvals");
  const work = [
    self.registration.showNotification(String(message.title || "Something waits for you"), {
      body: String(message.body || ""),
      icon: "/leaf-192.png",
      badge: "/leaf-192.png",
      tag: link,
      data: { link },
    }),
  ];
  if (typeof message.waiting === "number" && self.navigator.setAppBadge)
    work.push(self.navigator.setAppBadge(message.waiting));
  event.waitUntil(Promise.all(work));
});

self.addEventListener("notificationclick", (event) => {
  event.notification.close();
  // Only a place of this house is opened, whatever a push says.
  const link = new URL(event.notification.data?.link || "/approvals", self.location.origin);
  const place = link.origin === self.location.origin ? link.href : self.location.origin;
  event.waitUntil(
    self.clients.matchAll({ type: "window" }).then((open) => {
      const here = open.find((one) => one.url === place) || open[0];
      if (!here) return self.clients.openWindow(place);
      return here.focus().then((page) => (page.url === place ? page : page.navigate(place)));
    }),
  );
});
