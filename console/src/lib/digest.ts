/** The SHA-256 of a file in hexadecimal, computed here: the file is not sent anywhere. */
export async function digestOf(file: File): Promise<string> {
  const sum = await crypto.subtle.digest('SHA-256', await file.arrayBuffer());
  return [...new Uint8Array(sum)].map((b) => b.toString(16).padStart(2, '0')).join('');
}
