/** A part of an answer: plain text, or a block of code with the language it names. */
export interface Segment {
  kind: 'text' | 'code'
  text: string
  language: string
}

const FENCE = /^\s*(`{3,}|~{3,})\s*([^`~]*)$/

/** Cuts an answer where blocks of code begin and end; a block that is still being written counts. */
export function segments(answer: string): Segment[] {
  const found: Segment[] = []
  let open: { fence: string; language: string } | null = null
  let lines: string[] = []
  const close = () => {
    const text = lines.join('\n')
    if (open || text.trim()) found.push({ kind: open ? 'code' : 'text', text, language: open?.language ?? '' })
    lines = []
  }
  for (const line of answer.split('\n')) {
    const match = FENCE.exec(line)
    const fence = match?.[1] ?? ''
    if (match && !open) {
      close()
      open = { fence, language: match[2]?.trim() ?? '' }
    } else if (match && open && fence.startsWith(open.fence) && !match[2]?.trim()) {
      close()
      open = null
    } else {
      lines.push(line)
    }
  }
  close()
  return found
}
