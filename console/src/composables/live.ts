// What happens at the service, shared by every page.
import { computed, onScopeDispose, readonly, ref, shallowRef } from "vue";
import { get, type Event, type Status } from "./api";

const status = shallowRef<Status>();
const trouble = ref<string>();
const connected = ref(false);
const read = ref(0);
const wall = ref(Date.now());
const listeners = new Set<(event: Event) => void>();

let asking = false;
let again = false;

async function refresh(): Promise<void> {
  if (asking) {
    again = true;
    return;
  }
  asking = true;
  try {
    status.value = await get<Status>("/status");
    read.value = Date.now();
    trouble.value = undefined;
  } catch (error) {
    trouble.value = (error as Error).message;
  } finally {
    asking = false;
  }
  if (again) {
    again = false;
    setTimeout(refresh, 500);
  }
}

let started = false;

function start(): void {
  if (started) return;
  started = true;
  setInterval(refresh, 5000);
  setInterval(() => (wall.value = Date.now()), 250);
  listen();
  document.addEventListener("visibilitychange", listen);
  window.addEventListener("pagehide", leave);
  window.addEventListener("pageshow", listen);
}

let source: EventSource | undefined;

/** A browser has six connections to a service, and events keep one: a page that nobody sees gives its own back. */
function listen(): void {
  if (document.visibilityState === "hidden") return leave();
  if (source) return;
  void refresh();
  source = new EventSource("/api/v1/events");
  source.onopen = () => (connected.value = true);
  source.onerror = () => (connected.value = false);
  source.onmessage = (message) => {
    const event = JSON.parse(message.data) as Event;
    if (event.event !== "fetch") void refresh();
    listeners.forEach((listener) => listener(event));
  };
}

function leave(): void {
  source?.close();
  source = undefined;
  connected.value = false;
}

/** The status, kept fresh, and service time, ticking at the service's speed. */
export function useStatus() {
  start();
  const now = computed(() => {
    if (!status.value) return undefined;
    return new Date(Date.parse(status.value.now) + (wall.value - read.value) * status.value.speed);
  });
  return { status: readonly(status), trouble: readonly(trouble), connected: readonly(connected), now, refresh };
}

/** Calls `listener` for every event while the component lives. */
export function useEvents(listener: (event: Event) => void): void {
  start();
  listeners.add(listener);
  onScopeDispose(() => listeners.delete(listener));
}

/** Calls `work` when `wanted` says an event matters, at most once in `pause` milliseconds. */
export function useRefreshOn(wanted: (event: Event) => boolean, work: () => void, pause = 700): void {
  let waiting: ReturnType<typeof setTimeout> | undefined;
  useEvents((event) => {
    if (!wanted(event) || waiting) return;
    waiting = setTimeout(() => {
      waiting = undefined;
      work();
    }, pause);
  });
  onScopeDispose(() => clearTimeout(waiting));
}
