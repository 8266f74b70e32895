// A file of text on its way to the server as it is.

/** What a request holds whose body is a file, named as it is. */
export const asItIs = async (file: File) => ({
  params: { query: { name: file.name } },
  body: await file.text(),
  bodySerializer: (body: unknown) => body as string,
  headers: { 'content-type': 'application/octet-stream' },
});
