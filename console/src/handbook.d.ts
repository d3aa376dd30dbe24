declare module 'virtual:handbook' {
  const chapters: import('../handbook').Chapter[];
  export default chapters;
}
