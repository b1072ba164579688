/** Notices of the browser, where they were allowed in the settings. */
export function canNotify(): NotificationPermission | "unknown" {
  return "Notification" in window ? Notification.permission : "unknown";
}

export function notify(text: string): void {
  if (canNotify() === "granted") new Notification("Beryl", { body: text, icon: "/facet.svg" });
}
