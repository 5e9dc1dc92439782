/** Whether a key press belongs to a field or a dialog's control, so that single keys keep their hands off. */
export function typing(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement | null;
  return (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    !!at?.closest("input, textarea, select, [contenteditable]")
  );
}
