// One event stream for all of a browser's tabs: a browser opens only six connections to a service over HTTP/1.1.
// EventSource reconnects by itself after a lost connection and resumes from Last-Event-ID.
type Port = { postMessage: (message: unknown) => void };

const ports = new Set<Port>();
let source: EventSource | undefined;
let connected = false;

function tell(message: unknown) {
  for (const port of ports) port.postMessage(message);
}

function open(url: string) {
  if (source && source.readyState !== EventSource.CLOSED) return;
  source = new EventSource(url, { withCredentials: true });
  source.onopen = () => {
    connected = true;
    tell({ connected });
  };
  source.onerror = () => {
    connected = false;
    tell({ connected });
    // A refusal (signed out, say) closes it permanently; try again in a while.
    if (source?.readyState === EventSource.CLOSED) setTimeout(() => ports.size > 0 && open(url), 3000);
  };
  source.onmessage = (event) => tell({ change: JSON.parse(event.data as string) as unknown });
}

(self as unknown as { onconnect: (event: MessageEvent) => void }).onconnect = (event) => {
  const port = event.ports[0];
  if (!port) return;
  ports.add(port);
  port.onmessage = (message: MessageEvent<{ url?: string; bye?: boolean }>) => {
    if (message.data.bye) ports.delete(port);
    if (message.data.url) open(message.data.url);
    port.postMessage({ connected });
  };
  port.start();
};
