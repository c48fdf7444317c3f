export default {
  clearScreen: false,
  server: { port: 4310, strictPort: true, allowedHosts: ['.moor.test'] },
};
