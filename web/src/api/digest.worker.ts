/** Reads a file piece by piece and tells its SHA-256, off the page's thread and with the memory of one piece. */
import { sha256 } from '@noble/hashes/sha2.js'
import { bytesToHex } from '@noble/hashes/utils.js'

const PIECE = 4 * 1024 * 1024

export type Digested = { read: number } | { sha256: string } | { error: string }

self.onmessage = async (asked: MessageEvent<File>) => {
  const file = asked.data
  const digest = sha256.create()
  try {
    for (let at = 0; at < file.size; at += PIECE) {
      digest.update(new Uint8Array(await file.slice(at, at + PIECE).arrayBuffer()))
      self.postMessage({ read: Math.min(PIECE, file.size - at) } satisfies Digested)
    }
    self.postMessage({ sha256: bytesToHex(digest.digest()) } satisfies Digested)
  } catch {
    // A browser refuses to read a file that changed, or went, since it was chosen.
    self.postMessage({
      error: `${file.name} changed, or went, after it was chosen; choose it again.`,
    } satisfies Digested)
  }
}
