//! Where objects lie: in a folder, or in a bucket of an S3-compatible store.
//!
//! A bucket that takes over from a folder is used at once: new objects go there, and what is not there is read from the folder,
//! until `pennined migrate-objects` has moved the rest. No replica has to be stopped for that.

use crate::config::{Config, ConfigError, ObjectStorage};
use anyhow::{Context, bail};
use bytes::Bytes;
use futures::stream::BoxStream;
use futures::{Stream, StreamExt, TryStreamExt};
use object_store::aws::AmazonS3Builder;
use object_store::local::LocalFileSystem;
use object_store::path::Path as ObjectPath;
use object_store::prefix::PrefixStore;
use object_store::{Error, ObjectStore, ObjectStoreExt, PutPayload, WriteMultipart};
use sha2::{Digest, Sha256};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::pin::pin;
use std::sync::Arc;
use uuid::Uuid;

/// Objects that are moved side by side.
const AT_ONCE: usize = 8;

/// The size of the pieces in which a large object is stored; a bucket takes none smaller than 5 MiB.
const PIECE: usize = 8 << 20;

/// Why a stream could not be stored.
#[derive(Debug)]
pub enum StreamError<E> {
    /// The store cannot be written.
    Store(Error),
    /// A piece did not come.
    Piece(E),
}

/// The objects of an installation.
#[derive(Clone)]
pub struct Objects {
    store: Arc<dyn ObjectStore>,
    /// What people call it.
    place: String,
    /// The folder that the store takes over from, while it is there.
    before: Option<Arc<dyn ObjectStore>>,
}

/// What a migration has moved.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Moved {
    pub objects: u64,
    pub bytes: u64,
}

/// The object that says whose a store is.
fn marker() -> ObjectPath {
    ObjectPath::from("installation")
}

fn folder_of(config: &Config) -> PathBuf {
    config.data_dir.join("objects")
}

/// A folder's objects, each synced to disk before it counts.
fn folder(path: &Path) -> anyhow::Result<Arc<dyn ObjectStore>> {
    std::fs::create_dir_all(path)
        .with_context(|| format!("the folder {} cannot be made", path.display()))?;
    let objects = LocalFileSystem::new_with_prefix(path)
        .with_context(|| format!("the folder {} cannot be used", path.display()))?
        .with_fsync(true)
        .with_automatic_cleanup(true);
    Ok(Arc::new(objects))
}

fn bucket(settings: &ObjectStorage) -> anyhow::Result<Arc<dyn ObjectStore>> {
    // An error means that it was chosen before.
    let _ = rustls::crypto::ring::default_provider().install_default();
    // What the settings leave open comes from the environment (AWS_ACCESS_KEY_ID and so on) or from the machine's own role.
    let mut builder = AmazonS3Builder::from_env().with_bucket_name(&settings.bucket);
    if !settings.region.is_empty() {
        builder = builder.with_region(&settings.region);
    }
    if !settings.endpoint.is_empty() {
        let is_plain = settings.endpoint.starts_with("http://");
        builder = builder
            .with_endpoint(&settings.endpoint)
            .with_allow_http(is_plain);
    }
    if let Some((id, secret)) = settings.credentials()? {
        builder = builder
            .with_access_key_id(id)
            .with_secret_access_key(secret);
    }
    let store = builder
        .build()
        .with_context(|| format!("the bucket {} cannot be used", settings.bucket))?;
    if settings.prefix.is_empty() {
        return Ok(Arc::new(store));
    }
    Ok(Arc::new(PrefixStore::new(store, settings.prefix.as_str())))
}

impl Objects {
    /// Those of the configuration.
    ///
    /// # Errors
    /// Where the folder cannot be made, or the bucket's settings are wrong. The bucket itself is not asked.
    pub fn of(config: &Config) -> anyhow::Result<Objects> {
        let path = folder_of(config);
        let settings = &config.objects;
        if settings.bucket.is_empty() {
            return Objects::in_folder(&path);
        }
        let before = match path.join(marker().as_ref()).exists() {
            true => Some(folder(&path)?),
            false => None,
        };
        Ok(Objects {
            store: bucket(settings)?,
            place: format!("the bucket {}", settings.bucket),
            before,
        })
    }

    /// Those in a folder.
    pub fn in_folder(path: &Path) -> anyhow::Result<Objects> {
        Ok(Objects {
            store: folder(path)?,
            place: format!("the folder {}", path.display()),
            before: None,
        })
    }

    /// Marks a new installation's store with the installation's own word.
    pub async fn mark(&self, word: Uuid) -> anyhow::Result<()> {
        self.put(&marker(), Bytes::from(word.to_string()))
            .await
            .with_context(|| format!("{} cannot be written", self.place))
    }

    /// Refuses a store that is not the installation's: one that the replicas do not share would lose logs. A store that takes
    /// over from the installation's own folder is marked.
    pub async fn check(&self, word: Uuid) -> anyhow::Result<()> {
        if let Some(found) = self.word(&self.store).await? {
            if found == word.to_string() {
                return Ok(());
            }
            bail!("{} belongs to another installation", self.place);
        }
        if let Some(before) = &self.before
            && self.word(before).await? == Some(word.to_string())
        {
            return self.mark(word).await;
        }
        bail!(
            "{} is not this installation's. All replicas share one folder (data_dir) or one bucket (objects.bucket)",
            self.place
        )
    }

    async fn word(&self, store: &Arc<dyn ObjectStore>) -> anyhow::Result<Option<String>> {
        match store.get(&marker()).await {
            Ok(found) => {
                let bytes = found.bytes().await?;
                Ok(Some(String::from_utf8_lossy(&bytes).trim().to_owned()))
            }
            Err(Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(error).with_context(|| format!("{} cannot be read", self.place)),
        }
    }

    /// Stores an object; it is durable when this returns.
    pub async fn put(&self, place: &ObjectPath, bytes: Bytes) -> Result<(), Error> {
        self.store.put(place, PutPayload::from(bytes)).await?;
        Ok(())
    }

    /// Returns a part of an object.
    pub async fn get_range(&self, place: &ObjectPath, range: Range<u64>) -> Result<Bytes, Error> {
        match (
            self.store.get_range(place, range.clone()).await,
            &self.before,
        ) {
            (Err(Error::NotFound { .. }), Some(before)) => {
                match before.get_range(place, range.clone()).await {
                    // It was moved in between.
                    Err(Error::NotFound { .. }) => self.store.get_range(place, range).await,
                    found => found,
                }
            }
            (found, _) => found,
        }
    }

    /// Stores an object piece by piece; it is durable when this returns. Returns its size and its SHA-256.
    ///
    /// # Errors
    /// Where the store cannot be written, or a piece is an error: nothing is stored then.
    pub async fn put_stream<E>(
        &self,
        place: &ObjectPath,
        pieces: impl Stream<Item = Result<Bytes, E>>,
    ) -> Result<(u64, Vec<u8>), StreamError<E>> {
        let upload = self.store.put_multipart(place).await;
        let mut writer =
            WriteMultipart::new_with_chunk_size(upload.map_err(StreamError::Store)?, PIECE);
        let (mut size, mut hash) = (0, Sha256::new());
        let mut pieces = pin!(pieces);
        while let Some(piece) = pieces.next().await {
            let piece = match piece {
                Ok(piece) => piece,
                Err(error) => {
                    // What is left of it is removed by the store's own upkeep where this fails.
                    let _ = writer.abort().await;
                    return Err(StreamError::Piece(error));
                }
            };
            // One piece is on its way while the next one is read.
            writer
                .wait_for_capacity(1)
                .await
                .map_err(StreamError::Store)?;
            size += piece.len() as u64;
            hash.update(&piece);
            writer.write(&piece);
        }
        writer.finish().await.map_err(StreamError::Store)?;
        Ok((size, hash.finalize().to_vec()))
    }

    /// Returns an object piece by piece.
    ///
    /// # Errors
    /// Where there is none, or the store cannot be read.
    pub async fn get_stream(
        &self,
        place: &ObjectPath,
    ) -> Result<BoxStream<'static, Result<Bytes, Error>>, Error> {
        let found = match (self.store.get(place).await, &self.before) {
            (Err(Error::NotFound { .. }), Some(before)) => before.get(place).await,
            (found, _) => found,
        };
        Ok(found?.into_stream())
    }

    /// Removes an object; one that is not there does no harm.
    pub async fn delete(&self, place: &ObjectPath) -> Result<(), Error> {
        for store in [Some(&self.store), self.before.as_ref()]
            .into_iter()
            .flatten()
        {
            match store.delete(place).await {
                Ok(()) | Err(Error::NotFound { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Moves everything from the folder to the store, each object removed there once it is here, and the folder's mark last. It
    /// can be interrupted and repeated, and replicas go on serving.
    ///
    /// # Errors
    /// Where the store is the folder itself, and where an object cannot be moved.
    pub async fn migrate(&self, told: &mut (dyn FnMut(Moved) + Send)) -> anyhow::Result<Moved> {
        let mut moved = Moved::default();
        let Some(before) = &self.before else {
            return Ok(moved);
        };
        let listed = before.list(None).map_err(anyhow::Error::from);
        let moving = listed.map_ok(|object| async move {
            if object.location == marker() {
                return Ok(0);
            }
            let bytes = before.get(&object.location).await?.bytes().await?;
            let length = bytes.len() as u64;
            self.put(&object.location, bytes).await?;
            before.delete(&object.location).await?;
            Ok::<_, anyhow::Error>(length)
        });
        let mut moving = std::pin::pin!(moving.try_buffer_unordered(AT_ONCE));
        while let Some(bytes) = moving.next().await {
            let bytes = bytes?;
            moved.objects += u64::from(bytes > 0);
            moved.bytes += bytes;
            told(moved);
        }
        before.delete(&marker()).await?;
        Ok(moved)
    }

    /// Whether a folder has not been moved yet.
    pub fn takes_over(&self) -> bool {
        self.before.is_some()
    }
}

impl ObjectStorage {
    /// The access key's id and its secret, from the file that holds them.
    fn credentials(&self) -> Result<Option<(String, String)>, ConfigError> {
        if self.credentials_file.as_os_str().is_empty() {
            return Ok(None);
        }
        let path = &self.credentials_file;
        let text = std::fs::read_to_string(path)
            .map_err(|error| ConfigError::Unreadable(path.clone(), error))?;
        let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
        match (lines.next(), lines.next(), lines.next()) {
            (Some(id), Some(secret), None) => Ok(Some((id.to_owned(), secret.to_owned()))),
            _ => Err(ConfigError::InvalidTarget {
                key: "objects.credentials_file",
                message: format!(
                    "{} has two lines: the access key's id and its secret",
                    path.display()
                ),
            }),
        }
    }
}
