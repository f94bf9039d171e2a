/** Has the browser save a text as a file. */
export function save(name: string, text: string): void {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(new Blob([text], { type: 'application/json' }));
  link.download = name;
  link.click();
  // The browser has taken it by then; without this the text stays in memory.
  setTimeout(() => {
    URL.revokeObjectURL(link.href);
  }, 10_000);
}
