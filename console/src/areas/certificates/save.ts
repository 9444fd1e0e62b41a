/** Has the browser save a text as a file. */
export function save(name: string, text: string) {
  const address = URL.createObjectURL(new Blob([text], { type: 'application/x-pem-file' }))
  const link = document.createElement('a')
  link.href = address
  link.download = name
  link.click()
  URL.revokeObjectURL(address)
}
