/** The condition that only the item with an id meets, in CQL2 Text. */
export const withID = (id: string) => `id = '${id.replaceAll("'", "''")}'`
