/** The SHA-256 of a file, in hexadecimal digits. */
export async function digestOf(file: Blob): Promise<string> {
  const sum = await crypto.subtle.digest('SHA-256', await file.arrayBuffer())
  return [...new Uint8Array(sum)].map((b) => b.toString(16).padStart(2, '0')).join('')
}

/** Bytes in Base64 (RFC 4648, section 4). */
export function inBase64(bytes: ArrayBuffer): string {
  return btoa(String.fromCharCode(...new Uint8Array(bytes)))
}
