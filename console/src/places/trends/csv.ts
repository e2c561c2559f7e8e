// Tables as files (RFC 4180): what a chart shows can be taken along.

type Cell = string | number | null | undefined;

const quoted = (cell: Cell) => {
  const text = cell == null ? "" : String(cell);
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
};

/** Has the browser save rows under a name. */
export function save(name: string, rows: Cell[][]) {
  const text = rows.map((row) => row.map(quoted).join(",")).join("\r\n");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([`${text}\r\n`], { type: "text/csv" }));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
